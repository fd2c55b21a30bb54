namespace Vestige.Core.Forecasting;

/// <summary>How good past forecasts of one crossing were, by kind; each null while none was held against the outcome.</summary>
/// <param name="Clearing">Of when its backlog clears.</param>
/// <param name="Load">Of when its load ends.</param>
/// <param name="SpoolFull">Of when the spool of its source is full.</param>
/// <param name="LogLost">Of when the log of its source is lost.</param>
public sealed record ForecastQualities(
    ForecastQuality? Clearing,
    ForecastQuality? Load,
    ForecastQuality? SpoolFull,
    ForecastQuality? LogLost
);
