namespace Vestige.Core.Forecasting;

/// <summary>A rate lately: its median and its quartiles, by nearest rank.</summary>
/// <param name="Low">The lower quartile.</param>
/// <param name="Median">The median.</param>
/// <param name="High">The upper quartile.</param>
public sealed record RateRange(double Low, double Median, double High)
{
    public static RateRange Zero { get; } = new(0, 0, 0);

    public static RateRange One { get; } = new(1, 1, 1);

    /// <summary>
    /// Of samples, one an interval; zero where there are none. Where most of them are zero, as with a change every few seconds, the median
    /// says nothing of what comes, so that the mean is taken for it.
    /// </summary>
    public static RateRange Of(IReadOnlyList<double> samples)
    {
        ArgumentNullException.ThrowIfNull(samples);
        double[] sorted = [.. samples];
        Array.Sort(sorted);
        if (sorted.Length == 0)
        {
            return Zero;
        }

        var quartiles = new RateRange(Forecast.RankOf(sorted, 0.25), Forecast.RankOf(sorted, 0.5), Forecast.RankOf(sorted, 0.75));
        return quartiles.Median > 0
            ? quartiles
            : quartiles with
            {
                Median = sorted.Average(),
                High = Math.Max(quartiles.High, sorted.Average()),
            };
    }

    /// <summary>A part of it, itself known by its range only.</summary>
    public RateRange Part(RateRange share)
    {
        ArgumentNullException.ThrowIfNull(share);
        return new RateRange(Low * share.Low, Median * share.Median, High * share.High);
    }
}
