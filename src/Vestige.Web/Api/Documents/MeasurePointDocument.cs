using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>Lag by stage, in seconds, and rates per second at one moment.</summary>
public sealed record MeasurePointDocument(
    [property: Time] string At,
    double Behind,
    double NotCaptured,
    double NotSpooled,
    double NotApplied,
    double Arriving,
    double Applied
);
