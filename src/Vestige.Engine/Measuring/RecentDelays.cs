using Vestige.Core.Lag;

namespace Vestige.Engine.Measuring;

/// <summary>Delays per transaction of the last five minutes, minute by minute. Not safe for several threads.</summary>
internal sealed class RecentDelays
{
    private static readonly TimeSpan Kept = TimeSpan.FromMinutes(5);
    private readonly Queue<(DateTimeOffset Minute, DelayHistogram Delays)> minutes = [];
    private DelayHistogram open = new();
    private DateTimeOffset openMinute;

    public bool IsEmpty => open.Count == 0 && minutes.Count == 0;

    public void Record(TimeSpan delay, DateTimeOffset now)
    {
        Roll(now);
        open.Record(delay);
    }

    /// <summary>Those of a minute that is over; empty where there were none, or it is too long ago.</summary>
    public DelayHistogram Of(DateTimeOffset minute)
    {
        Roll(minute + TimeSpan.FromMinutes(1));
        return minutes.FirstOrDefault(entry => entry.Minute == minute).Delays ?? new DelayHistogram();
    }

    /// <summary>Those of a minute and after it; the caller's own.</summary>
    public DelayHistogram Since(DateTimeOffset minute, DateTimeOffset now)
    {
        Roll(now);
        var all = new DelayHistogram();
        foreach (var (_, delays) in minutes.Append((openMinute, open)).Where(entry => entry.Item1 >= minute))
        {
            all.Merge(delays);
        }

        return all;
    }

    private void Roll(DateTimeOffset now)
    {
        var minute = new DateTimeOffset(now.UtcTicks - (now.UtcTicks % TimeSpan.TicksPerMinute), TimeSpan.Zero);
        if (minute != openMinute)
        {
            if (open.Count > 0)
            {
                minutes.Enqueue((openMinute, open));
                open = new DelayHistogram();
            }

            openMinute = minute;
        }

        while (minutes.Count > 0 && now - minutes.Peek().Minute > Kept)
        {
            minutes.Dequeue();
        }
    }
}
