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
        var lambda = RateRange.Of(arriving);
        var mu = appliedUnderBacklog.Count == 0 ? null : RateRange.Of(appliedUnderBacklog);
        if (backlog <= 0)
        {
            return new ClearingForecast(
                Clearing.Current,
                TimeSpan.Zero,
                TimeSpan.Zero,
                TimeSpan.Zero,
                lambda.Median,
                mu?.Median,
                RateRange.Zero
            );
        }

        if (mu is null)
        {
            return new ClearingForecast(Clearing.NotMeasured, null, null, null, lambda.Median, null, new RateRange(0, 0, 1));
        }

        var time = Drain(backlog, mu.Median - lambda.Median);
        var soonest = Drain(backlog, mu.High - lambda.Low);
        var latest = Drain(backlog, mu.Low - lambda.High);
        var left = new RateRange(LeftOf(lambda.Low, mu.High), LeftOf(lambda.Median, mu.Median), LeftOf(lambda.High, mu.Low));
        return new ClearingForecast(time is null ? Clearing.Never : Clearing.Clears, time, soonest, latest, lambda.Median, mu.Median, left);
    }

    /// <summary>
    /// The same while nothing is applied, by someone's wish or since it cannot be: whatever arrives adds to the backlog.
    /// </summary>
    public static ClearingForecast AtRest(long backlog, IReadOnlyList<double> arriving, IReadOnlyList<double> appliedUnderBacklog)
    {
        var moving = WhenClear(backlog, arriving, appliedUnderBacklog) with { Left = RateRange.One };
        return backlog <= 0 ? moving : moving with { Outcome = Clearing.AtRest, In = null, Soonest = null, Latest = null };
    }

    /// <summary>
    /// When the spool is full, and when the source's log is lost after that. While the log is not read the spool does not grow, and
    /// the source keeps its log already.
    /// </summary>
    /// <param name="spool">The spool, with what is still needed of it: the span that is kept beyond that is given up first.</param>
    /// <param name="log">The log that the source keeps.</param>
    /// <param name="isRead">Whether the log is being read.</param>
    public static LogExhaustion WhenExhausted(StoreLevel spool, StoreLevel log, bool isRead)
    {
        ArgumentNullException.ThrowIfNull(spool);
        ArgumentNullException.ThrowIfNull(log);
        var lost = WhenFull(log);
        var full = isRead || spool.Held >= spool.Limit ? WhenFull(spool) : ForecastTime.Never;
        return new LogExhaustion(full, isRead ? full.Then(lost) : lost);
    }

    /// <summary>When a store is full; never without a limit.</summary>
    public static ForecastTime WhenFull(StoreLevel store)
    {
        ArgumentNullException.ThrowIfNull(store);
        TimeSpan? At(double bytesPerSecond) => store.Limit is { } limit ? WhenFull(store.Held, limit, bytesPerSecond) : null;
        return new ForecastTime(At(store.Growth.Median), At(store.Growth.High), At(store.Growth.Low));
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

        return RankOf([.. samples.Order()], q);
    }

    internal static double RankOf(double[] sorted, double q) => sorted[Math.Max(0, (int)Math.Ceiling(q * sorted.Length) - 1)];

    private static double LeftOf(double arriving, double applied) => arriving <= 0 ? 0 : Math.Clamp(1 - (applied / arriving), 0, 1);

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
