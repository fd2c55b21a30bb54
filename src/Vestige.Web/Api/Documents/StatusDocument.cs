using Vestige.Core.Crossings;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>How a crossing stands. Durations in seconds.</summary>
public sealed record StatusDocument(
    string Name,
    [property: Choices(typeof(CrossingState))] string State,
    [property: Time] string Since,
    LagDocument? Lag,
    StageDelaysDocument? Delay,
    double? DelayP95,
    RatesDocument Rates,
    ForecastDocument Forecast,
    PositionsDocument Positions,
    HeadlineDocument Headline,
    IReadOnlyList<ReasonDocument> Reasons,
    string? Cause,
    string? Resting,
    [property: Time] string? NextRun,
    IReadOnlyList<TableStatusDocument> Tables,
    FaultDocument? Fault,
    WaitingDocument? Waiting
);
