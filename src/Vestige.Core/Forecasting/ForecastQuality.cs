namespace Vestige.Core.Forecasting;

/// <summary>How good past forecasts were.</summary>
/// <param name="Count">How many were held against the outcome.</param>
/// <param name="MedianError">By what part of the time it took half of them were off at most, by nearest rank.</param>
/// <param name="Near">How many were off by at most half of the time it took.</param>
/// <param name="WithinRange">Which part had the outcome within their range, 0 to 1.</param>
public sealed record ForecastQuality(int Count, double MedianError, int Near, double WithinRange);
