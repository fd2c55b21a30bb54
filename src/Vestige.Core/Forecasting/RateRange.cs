namespace Vestige.Core.Forecasting;

/// <summary>A rate lately: its median and its quartiles, by nearest rank.</summary>
/// <param name="Low">The lower quartile.</param>
/// <param name="Median">The median.</param>
/// <param name="High">The upper quartile.</param>
public sealed record RateRange(double Low, double Median, double High)
{
    private const int Stretch = 10;
    private const int FewestStretches = 3;

    public static RateRange Zero { get; } = new(0, 0, 0);

    public static RateRange One { get; } = new(1, 1, 1);

    /// <summary>
    /// Of samples, one an interval, oldest first; zero where there are none. Where most of them are zero, as with a change every few
    /// seconds, stretches of ten are taken for one each, if there are three: a single burst among them still counts for nothing.
    /// </summary>
    public static RateRange Of(IReadOnlyList<double> samples)
    {
        ArgumentNullException.ThrowIfNull(samples);
        var quartiles = QuartilesOf(samples);
        return quartiles.Median > 0 || samples.Count < Stretch * FewestStretches
            ? quartiles
            : QuartilesOf([.. samples.Skip(samples.Count % Stretch).Chunk(Stretch).Select(stretch => stretch.Average())]);
    }

    private static RateRange QuartilesOf(IReadOnlyList<double> samples)
    {
        double[] sorted = [.. samples];
        Array.Sort(sorted);
        return sorted.Length == 0
            ? Zero
            : new RateRange(Forecast.RankOf(sorted, 0.25), Forecast.RankOf(sorted, 0.5), Forecast.RankOf(sorted, 0.75));
    }

    /// <summary>A part of it, itself known by its range only.</summary>
    public RateRange Part(RateRange share)
    {
        ArgumentNullException.ThrowIfNull(share);
        return new RateRange(Low * share.Low, Median * share.Median, High * share.High);
    }
}
