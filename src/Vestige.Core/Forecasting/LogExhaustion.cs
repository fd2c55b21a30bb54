namespace Vestige.Core.Forecasting;

/// <summary>
/// Two forecasts, one after the other: the spool is full, from then on the source must keep its log, and that is lost at its limit.
/// </summary>
/// <param name="SpoolFull">When the spool is at its budget with what is still needed.</param>
/// <param name="LogLost">When the source's log then reaches its limit.</param>
public sealed record LogExhaustion(ForecastTime SpoolFull, ForecastTime LogLost)
{
    public static LogExhaustion None { get; } = new(ForecastTime.Never, ForecastTime.Never);

    /// <summary>Whether it comes before another.</summary>
    public bool IsBefore(LogExhaustion other)
    {
        ArgumentNullException.ThrowIfNull(other);
        return Key(this).CompareTo(Key(other)) < 0;

        static (TimeSpan Lost, TimeSpan Full, TimeSpan Soonest) Key(LogExhaustion one) =>
            (one.LogLost.In ?? TimeSpan.MaxValue, one.SpoolFull.In ?? TimeSpan.MaxValue, one.SpoolFull.Soonest ?? TimeSpan.MaxValue);
    }
}
