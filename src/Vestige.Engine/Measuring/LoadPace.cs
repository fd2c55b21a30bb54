using Vestige.Core.Forecasting;

namespace Vestige.Engine.Measuring;

/// <summary>How fast the load at hand has gone over the last minute, second by second. Not safe for several threads.</summary>
internal sealed class LoadPace
{
    private const int SecondsKept = 60;
    private const int SecondsNeeded = 4;
    private readonly Queue<double> rates = [];
    private long rows;
    private DateTimeOffset at;

    /// <summary>The quartiles of the rows written a second, the lower first; null where less than four seconds were seen.</summary>
    public (double Low, double High)? Range
    {
        get
        {
            var seen = RateRange.Of([.. rates]);
            return rates.Count < SecondsNeeded ? null : (seen.Low, seen.High);
        }
    }

    /// <summary>
    /// Notes how many rows it has written, once a second; null when no load is at hand. Fewer than before are those of another.
    /// </summary>
    public void Sample(long? written, DateTimeOffset now)
    {
        if (written is not { } all || all < rows)
        {
            rates.Clear();
            (rows, at) = (written ?? 0, now);
            return;
        }

        if (now > at)
        {
            rates.Enqueue((all - rows) / (now - at).TotalSeconds);
            (rows, at) = (all, now);
            if (rates.Count > SecondsKept)
            {
                rates.Dequeue();
            }
        }
    }
}
