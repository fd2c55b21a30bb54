namespace Vestige.Core.Forecasting;

/// <summary>When something is forecast to happen, from now.</summary>
/// <param name="In">At the median rates; null when it does not happen at these.</param>
/// <param name="Soonest">At the quartiles that bring it nearer; null when not even then.</param>
/// <param name="Latest">At the quartiles that put it off; null when it does not happen at these.</param>
public sealed record ForecastTime(TimeSpan? In, TimeSpan? Soonest, TimeSpan? Latest)
{
    public static ForecastTime Never { get; } = new(null, null, null);

    /// <summary>When something happens that begins only with this.</summary>
    public ForecastTime Then(ForecastTime next)
    {
        ArgumentNullException.ThrowIfNull(next);
        return new ForecastTime(In + next.In, Soonest + next.Soonest, Latest + next.Latest);
    }
}
