namespace Vestige.Core.Forecasting;

/// <summary>When a backlog clears.</summary>
/// <param name="Outcome">What will happen at the median rates.</param>
/// <param name="In">The time at the median rates; null unless it clears.</param>
/// <param name="Soonest">The time at the better quartiles; null unless it clears there.</param>
/// <param name="Latest">The time at the worse quartiles; null when it never clears there.</param>
/// <param name="Arriving">Median changes a second arriving.</param>
/// <param name="Applied">Median changes a second applied under backlog; null when not measured.</param>
/// <param name="Left">The part of what arrives that is not applied and adds to the backlog, 0 to 1.</param>
public sealed record ClearingForecast(
    Clearing Outcome,
    TimeSpan? In,
    TimeSpan? Soonest,
    TimeSpan? Latest,
    double Arriving,
    double? Applied,
    RateRange Left
)
{
    /// <summary>When, with its range.</summary>
    public ForecastTime Time => new(In, Soonest, Latest);
}
