namespace Vestige.Core.Forecasting;

/// <summary>
/// Forecasts from measured rates. A backlog of B changes, λ arriving and μ applied per second, clears in B/(μ−λ) when
/// μ &gt; λ, else never (the fluid limit of a single queue; common practice, no source). Rates are medians over the
/// window, their range comes from the quartiles, all by nearest rank.
/// </summary>
public static class Forecast
{
    private static readonly TimeSpan Horizon = TimeSpan.FromDays(3650);

    /// <param name="backlog">Changes captured and not applied.</param>
    /// <param name="arriving">Changes a second that arrived, one sample an interval.</param>
    /// <param name="appliedUnderBacklog">Changes a second applied, only from intervals in which there was a backlog throughout.</param>
    public static ClearingForecast WhenClear(long backlog, IReadOnlyList<double> arriving, IReadOnlyList<double> appliedUnderBacklog)
    {
        ArgumentNullException.ThrowIfNull(arriving);
        ArgumentNullException.ThrowIfNull(appliedUnderBacklog);
        var lambda = NearestRank(arriving, 0.5) ?? 0;
        var mu = NearestRank(appliedUnderBacklog, 0.5);
        if (backlog <= 0)
        {
            return new ClearingForecast(Clearing.Current, TimeSpan.Zero, TimeSpan.Zero, TimeSpan.Zero, lambda, mu);
        }

        if (mu is null)
        {
            return new ClearingForecast(Clearing.NotMeasured, null, null, null, lambda, null);
        }

        var time = Drain(backlog, mu.Value - lambda);
        var soonest = Drain(backlog, NearestRank(appliedUnderBacklog, 0.75)!.Value - (NearestRank(arriving, 0.25) ?? 0));
        var latest = Drain(backlog, NearestRank(appliedUnderBacklog, 0.25)!.Value - (NearestRank(arriving, 0.75) ?? 0));
        return new ClearingForecast(time is null ? Clearing.Never : Clearing.Clears, time, soonest, latest, lambda, mu);
    }

    /// <summary>
    /// When a store of <paramref name="limit"/> bytes that holds <paramref name="held"/> is full at
    /// <paramref name="bytesPerSecond"/>; null when it never fills.
    /// </summary>
    public static TimeSpan? WhenFull(long held, long limit, double bytesPerSecond) =>
        held >= limit ? TimeSpan.Zero : Drain(limit - held, bytesPerSecond);

    /// <summary>The value at the nearest rank ⌈q·n⌉ of the sorted samples; null when there are none.</summary>
    public static double? NearestRank(IReadOnlyList<double> samples, double q)
    {
        ArgumentNullException.ThrowIfNull(samples);
        if (samples.Count == 0)
        {
            return null;
        }

        var sorted = samples.Order().ToArray();
        return sorted[Math.Max(0, (int)Math.Ceiling(q * sorted.Length) - 1)];
    }

    private static TimeSpan? Drain(double amount, double perSecond)
    {
        if (perSecond <= 0)
        {
            return null;
        }

        var seconds = amount / perSecond;
        return seconds >= Horizon.TotalSeconds ? null : TimeSpan.FromSeconds(seconds);
    }
}
