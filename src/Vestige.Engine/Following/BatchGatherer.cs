using System.Collections.Immutable;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>
/// Reads transactions from the spool and makes batches of them. A batch holds what is there at once, up to a size, and never goes from one
/// branch of the log to the next; so it is small when the target keeps pace and large when it has fallen behind. It ends only at a
/// transaction's end, unless its builder takes parts of large ones.
/// </summary>
internal sealed class BatchGatherer(Spool spool, SpoolReader reader, IBatchBuilder builder, TimeProvider clock, int batchBytes)
{
    private readonly Queue<SpooledFragment> waiting = [];
    private StopMark? mark;
    private long openedAt;
    private long oldestTicks;

    /// <summary>Takes no transaction beyond this mark; null for no mark.</summary>
    public StopMark? Mark
    {
        get => mark;
        set
        {
            AtMark = AtMark && mark == value;
            mark = value;
        }
    }

    /// <summary>A batch ends at the transaction with which it has so many changes.</summary>
    public int MostChanges { get; set; } = int.MaxValue;

    /// <summary>Whether the branch has ended, and nothing of it is left to hand out.</summary>
    public bool AtBranchEnd => reader.AtBranchEnd && waiting.Count == 0;

    /// <summary>Whether nothing is left to hand out before the mark.</summary>
    public bool AtMark { get; private set; }

    /// <summary>Whether a batch that was gathered before there was this mark goes beyond it.</summary>
    public bool IsBeyond(Batch batch) => mark is { } end && batch.IsBeyond(end);

    /// <summary>Called when everything durable has been taken.</summary>
    public Action? Idle { get; set; }

    /// <summary>Commit time of the first transaction read and not yet handed out; null when there is none. From any thread.</summary>
    public DateTimeOffset? OldestWaiting =>
        Interlocked.Read(ref oldestTicks) is var ticks and > 0 ? new DateTimeOffset(ticks, TimeSpan.Zero) : null;

    /// <summary>The next batch, waiting for one; null when the mark or the end of the branch is reached.</summary>
    public async Task<Batch?> NextAsync(CancellationToken cancellation)
    {
        await Task.Yield();
        if (!await FillAsync(cancellation))
        {
            return null;
        }

        var before = builder.Tables;
        openedAt = clock.GetTimestamp();
        return waiting.Peek().Whole || builder.TakesFragments
            ? await BuildAsync(before, cancellation)
            : Batch.OfLarge(waiting.Peek(), before);
    }

    /// <summary>The parts of the large transaction at hand, one by one, to its last.</summary>
    public async IAsyncEnumerable<SpooledFragment> FragmentsAsync(
        [System.Runtime.CompilerServices.EnumeratorCancellation] CancellationToken cancellation
    )
    {
        while (true)
        {
            if (waiting.Count == 0)
            {
                Take(await reader.ReadAsync(batchBytes, cancellation));
            }

            var part = waiting.Dequeue();
            TellOldest();
            yield return part;
            if (part.Last)
            {
                yield break;
            }
        }
    }

    private async Task<bool> FillAsync(CancellationToken cancellation)
    {
        if (waiting.Count == 0)
        {
            var end = spool.Last;
            var read = await reader.TryReadAsync(batchBytes, cancellation);
            if (read.Count == 0)
            {
                if (end >= mark?.Position && spool.Readable)
                {
                    AtMark = true;
                    return false;
                }

                if (!reader.AtBranchEnd)
                {
                    Idle?.Invoke();
                    read = await reader.ReadAsync(batchBytes, cancellation);
                }

                if (read.Count == 0)
                {
                    return false;
                }
            }

            Take(read);
        }

        if (IsAfterMark(waiting.Peek()))
        {
            AtMark = true;
            return false;
        }

        return true;
    }

    private bool IsAfterMark(SpooledFragment fragment) => mark is { } end && fragment.IsAfter(end);

    private async Task<Batch> BuildAsync(ImmutableDictionary<TableName, TableProgress> before, CancellationToken cancellation)
    {
        var fragments = new List<SpooledFragment>();
        var (bytes, changes, most) = (0, 0L, MostChanges);
        while (bytes < batchBytes && changes < most)
        {
            if (waiting.Count == 0)
            {
                Take(await reader.TryReadAsync(batchBytes, cancellation));
            }

            if (
                !waiting.TryPeek(out var fragment)
                || !(fragment.Whole || builder.TakesFragments)
                || IsAfterMark(fragment)
                || (fragments.Count > 0 && fragment.Route != fragments[0].Route)
            )
            {
                break;
            }

            waiting.Dequeue();
            fragments.Add(fragment);
            bytes += fragment.Changes.Length;
            changes += fragment.Count;
            if (!builder.TryAdd(fragment))
            {
                break;
            }
        }

        TellOldest();
        return builder.Build(fragments, before, clock.GetElapsedTime(openedAt));
    }

    private void Take(IReadOnlyList<SpooledFragment> fragments)
    {
        foreach (var fragment in fragments)
        {
            waiting.Enqueue(fragment);
        }

        TellOldest();
    }

    private void TellOldest() =>
        Interlocked.Exchange(ref oldestTicks, waiting.TryPeek(out var fragment) ? fragment.CommittedAt.UtcTicks : 0);
}
