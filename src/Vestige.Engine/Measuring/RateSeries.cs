using Vestige.Core.Forecasting;

namespace Vestige.Engine.Measuring;

/// <summary>
/// The range of the rate of a growing counter. What was seen is cut into up to thirty intervals of at least a second, so that
/// bursts far apart still count, and a first answer is there after a second. Not safe for several threads.
/// </summary>
internal sealed class RateSeries
{
    private const int Intervals = 30;
    private static readonly TimeSpan Window = TimeSpan.FromMinutes(5);
    private static readonly TimeSpan Shortest = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan Lately = TimeSpan.FromSeconds(10);
    private readonly Queue<(DateTimeOffset At, long Value)> samples = [];
    private (DateTimeOffset At, long Value) last;

    /// <summary>Units a second; zero until samples a second apart were taken.</summary>
    public RateRange Range { get; private set; } = RateRange.Zero;

    /// <summary>
    /// Units a second over the last ten seconds, or since the sample before where none was taken in these; zero until two were taken.
    /// </summary>
    public double Latest { get; private set; }

    /// <summary>Another counter begins.</summary>
    public void Restart()
    {
        samples.Clear();
        (Range, Latest) = (RateRange.Zero, 0);
    }

    /// <summary>Takes the counter at a moment; one that has gone back begins again.</summary>
    public void Sample(DateTimeOffset at, long value)
    {
        if (samples.Count > 0 && (value < last.Value || at < last.At))
        {
            samples.Clear();
        }

        var before = last;
        last = (at, value);
        samples.Enqueue(last);
        while (at - samples.Peek().At > Window)
        {
            samples.Dequeue();
        }

        Range = RateRange.Of(Rates());
        var first = samples.First(sample => at - sample.At <= Lately);
        var from =
            first.At < at ? first
            : samples.Count > 1 ? before
            : last;
        Latest = from.At < at ? (value - from.Value) / (at - from.At).TotalSeconds : 0;
    }

    private List<double> Rates()
    {
        var rates = new List<double>(Intervals);
        var from = samples.Peek();
        var interval = TimeSpan.FromTicks(Math.Max(Shortest.Ticks, (last.At - from.At).Ticks / Intervals));
        foreach (var sample in samples)
        {
            if (sample.At - from.At >= interval)
            {
                rates.Add((sample.Value - from.Value) / (sample.At - from.At).TotalSeconds);
                from = sample;
            }
        }

        return rates;
    }
}
