namespace Vestige.Web.Api.Documents;

/// <summary>The range of each forecast.</summary>
public sealed record ForecastRangesDocument(
    RangeDocument Clears,
    RangeDocument SpoolFull,
    RangeDocument LogExhausted,
    RangeDocument LoadEnds
);
