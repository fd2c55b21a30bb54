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
    private readonly Queue<AppliedTime> coarse = [];
    private readonly Queue<AppliedTime> fine = [];
    private AppliedTime? last;
    private DateTimeOffset lastCoarse;
    private LogPosition forgotten;

    /// <summary>Notes that everything up to a position is applied. A lower position than before begins again.</summary>
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

        last = new AppliedTime(upto, at);
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

    /// <summary>The last that is known of a minute; null when nothing was applied in it.</summary>
    public AppliedTime? LastOf(DateTimeOffset minute)
    {
        AppliedTime? found = null;
        foreach (var time in coarse.Concat(fine).Append(last ?? default))
        {
            found = Slot(time.At, CoarseStep) == Slot(minute, CoarseStep) ? time : found;
        }

        return found;
    }

    /// <summary>Takes what an earlier process has seen, oldest first, before anything is added.</summary>
    public void Recall(IReadOnlyList<AppliedTime> times)
    {
        if (last is not null || times.Count == 0)
        {
            return;
        }

        // Up to the first of them all was applied before that, and when is not known.
        forgotten = times[0].Upto;
        foreach (var time in times.SkipLast(1))
        {
            coarse.Enqueue(time);
            lastCoarse = time.At;
        }

        last = times[^1];
    }

    private void Coarsen(AppliedTime entry)
    {
        if (Slot(entry.At, CoarseStep) != Slot(lastCoarse, CoarseStep))
        {
            coarse.Enqueue(entry);
            lastCoarse = entry.At;
        }
    }

    private static long Slot(DateTimeOffset at, TimeSpan step) => at.UtcTicks / step.Ticks;
}
