using Vestige.Core.Forecasting;

namespace Vestige.Web.Api.Documents;

/// <summary>How good past forecasts were; null while none was held against the outcome.</summary>
public sealed record PastForecastsDocument(
    ForecastQuality? Clears,
    ForecastQuality? SpoolFull,
    ForecastQuality? LogExhausted,
    ForecastQuality? LoadEnds
);
