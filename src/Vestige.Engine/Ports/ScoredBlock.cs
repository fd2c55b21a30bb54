using Vestige.Core.Forecasting;

namespace Vestige.Engine.Ports;

/// <summary>Forecasts of one kind that were held against the outcome.</summary>
/// <param name="Crossing">The crossing that they were about.</param>
/// <param name="Kind">What was forecast.</param>
/// <param name="Judged">The latest of them, the oldest first; <see cref="PastForecasts.Kept"/> at most.</param>
public sealed record ScoredBlock(string Crossing, ForecastKind Kind, IReadOnlyList<ScoredForecast> Judged);
