using Vestige.Core.Forecasting;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>When the backlog clears and when the source's log is lost; null where neither is foreseen.</summary>
public sealed record ForecastDocument(
    [property: Choices(typeof(Clearing))] string Outcome,
    double? ClearsInSeconds,
    double? SpoolFullInSeconds,
    double? LogExhaustedInSeconds,
    string? ExhaustedBy,
    double? LoadEndsInSeconds,
    ForecastRangesDocument Ranges,
    PastForecastsDocument Past
);
