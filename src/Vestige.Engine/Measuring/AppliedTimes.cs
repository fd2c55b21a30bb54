using Vestige.Core.Positions;

namespace Vestige.Engine.Measuring;

/// <summary>
/// Up to which position a crossing had applied at what time: to a tenth of a second for the last ten minutes, to a minute for a
/// day. Not safe for several threads.
/// </summary>
internal sealed class AppliedTimes
{
    private static readonly TimeSpan FineFor = TimeSpan.FromMinutes(10);
    private static readonly TimeSpan CoarseFor = TimeSpan.FromDays(1);
    private static readonly TimeSpan FineStep = TimeSpan.FromMilliseconds(100);
    private static readonly TimeSpan CoarseStep = TimeSpan.FromMinutes(1);
    private readonly Queue<(LogPosition Upto, DateTimeOffset At)> coarse = [];
    private readonly Queue<(LogPosition Upto, DateTimeOffset At)> fine = [];
    private (LogPosition Upto, DateTimeOffset At)? last;
    private DateTimeOffset lastCoarse;
    private LogPosition forgotten;

    /// <summary>Notes that everything up to a position is applied. A lower position than before begins anew.</summary>
    public void Add(LogPosition upto, DateTimeOffset at)
    {
        if (upto < last?.Upto)
        {
            coarse.Clear();
            fine.Clear();
            last = null;
        }

        if (last is null)
        {
            // What came before this was not seen.
            forgotten = upto;
        }

        if (last is { } before && Slot(before.At, FineStep) != Slot(at, FineStep))
        {
            fine.Enqueue(before);
        }

        last = (upto, at);
        while (fine.Count > 0 && at - fine.Peek().At > FineFor)
        {
            Coarsen(fine.Dequeue());
        }

        while (coarse.Count > 0 && at - coarse.Peek().At > CoarseFor)
        {
            forgotten = coarse.Dequeue().Upto;
        }
    }

    /// <summary>By when a position was applied; null when it was not, or that is not remembered.</summary>
    public DateTimeOffset? Of(LogPosition position)
    {
        if (position < forgotten)
        {
            return null;
        }

        foreach (var (upto, at) in coarse.Concat(fine))
        {
            if (upto >= position)
            {
                return at;
            }
        }

        return last is { } now && now.Upto >= position ? now.At : null;
    }

    private void Coarsen((LogPosition Upto, DateTimeOffset At) entry)
    {
        if (Slot(entry.At, CoarseStep) != Slot(lastCoarse, CoarseStep))
        {
            coarse.Enqueue(entry);
            lastCoarse = entry.At;
        }
    }

    private static long Slot(DateTimeOffset at, TimeSpan step) => at.UtcTicks / step.Ticks;
}
