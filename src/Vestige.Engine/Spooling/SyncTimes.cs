using Vestige.Core.Positions;

namespace Vestige.Engine.Spooling;

/// <summary>When the latest transactions became durable. Safe for several threads.</summary>
internal sealed class SyncTimes
{
    private const int Kept = 2048;
    private readonly Lock gate = new();
    private readonly List<(LogPosition Upto, DateTimeOffset At)> syncs = [];
    private LogPosition forgotten = new(int.MaxValue, ulong.MaxValue);

    public void Add(LogPosition upto, DateTimeOffset at)
    {
        lock (gate)
        {
            Keep(upto, at);
        }
    }

    /// <summary>When a transaction became durable; null when that is no longer, or not, remembered.</summary>
    public DateTimeOffset? Of(LogPosition position)
    {
        lock (gate)
        {
            return Find(position);
        }
    }

    private void Keep(LogPosition upto, DateTimeOffset at)
    {
        if (syncs.Count == 0)
        {
            forgotten = LogPosition.Zero;
        }
        else if (syncs.Count >= 2 * Kept)
        {
            forgotten = syncs[Kept - 1].Upto;
            syncs.RemoveRange(0, Kept);
        }

        syncs.Add((upto, at));
    }

    private DateTimeOffset? Find(LogPosition position)
    {
        if (position <= forgotten)
        {
            return null;
        }

        int low = 0,
            high = syncs.Count;
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (syncs[middle].Upto >= position)
            {
                high = middle;
            }
            else
            {
                low = middle + 1;
            }
        }

        return low < syncs.Count ? syncs[low].At : null;
    }
}
