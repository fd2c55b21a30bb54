namespace Vestige.Core.Forecasting;

/// <summary>A forecast that was held against the outcome.</summary>
/// <param name="Error">By what part of the time it took it was off; 0 or more.</param>
/// <param name="Within">Whether the outcome was within its range.</param>
public readonly record struct ScoredForecast(double Error, bool Within);
