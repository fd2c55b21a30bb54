using Vestige.Engine.Tracing;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>How far a change has come in one crossing.</summary>
public sealed record TracedStepDocument(
    string Crossing,
    [property: Choices(typeof(TraceStage))] string Stage,
    string Said,
    [property: Time] string? AppliedAt,
    string? Quarantine,
    TracedDecisionDocument? Decided,
    string? Problem,
    IReadOnlyList<TracedRowDocument> Made
);
