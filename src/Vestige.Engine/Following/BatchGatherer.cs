using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>
/// Reads transactions from the spool and folds them into batches. A batch holds what is there at once, up to a size, and
/// ends only at a transaction's end, and never goes from one branch of the log to the next; so it is small when the target keeps pace and
/// large when it has fallen behind.
/// </summary>
internal sealed class BatchGatherer(Spool spool, SpoolReader reader, ChangeRouter router, TimeProvider clock, int batchBytes)
{
    private readonly Queue<SpooledFragment> waiting = [];
    private readonly List<RoutedChange> routed = [];
    private StopMark? mark;
    private long openedAt;
    private long oldestTicks;

    /// <summary>Takes no transaction behind this mark; null for no mark.</summary>
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

        var before = router.Tables;
        openedAt = clock.GetTimestamp();
        if (!waiting.Peek().Whole)
        {
            var head = waiting.Peek();
            return new Batch(
                [head],
                [],
                head.Position,
                before,
                before,
                new ChangeTally(),
                TimeSpan.Zero,
                Large: true,
                new AsideChanges(),
                router.Owners
            );
        }

        return await FoldAsync(before, cancellation);
    }

    /// <summary>The parts of the large transaction at hand, one by one, to its last.</summary>
    public async IAsyncEnumerable<SpooledFragment> PartsAsync(
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

        if (IsBehindMark(waiting.Peek()))
        {
            AtMark = true;
            return false;
        }

        return true;
    }

    private bool IsBehindMark(SpooledFragment fragment) => mark is { } end && fragment.IsBehind(end);

    private async Task<Batch> FoldAsync(ImmutableDictionary<TableName, TableProgress> before, CancellationToken cancellation)
    {
        Dictionary<TableName, TableFold>? folds = [];
        var fragments = new List<SpooledFragment>();
        var tally = new ChangeTally();
        var (bytes, changes, most) = (0, 0L, MostChanges);
        while (bytes < batchBytes && changes < most)
        {
            if (waiting.Count == 0)
            {
                Take(await reader.TryReadAsync(batchBytes, cancellation));
            }

            if (
                !waiting.TryPeek(out var fragment)
                || !fragment.Whole
                || IsBehindMark(fragment)
                || (fragments.Count > 0 && fragment.Route != fragments[0].Route)
            )
            {
                break;
            }

            waiting.Dequeue();
            fragments.Add(fragment);
            bytes += fragment.Changes.Length;
            changes += fragment.Count;
            if (!TryAdd(folds, tally, fragment))
            {
                folds = null;
                break;
            }
        }

        TellOldest();
        return new Batch(
            fragments,
            folds is null ? null : [.. folds.Values.Select(fold => fold.Finish())],
            fragments[^1].Position,
            before,
            router.Tables,
            tally,
            clock.GetElapsedTime(openedAt),
            Large: false,
            router.Aside.Take(),
            router.Owners
        );
    }

    /// <summary>
    /// Routes and folds a transaction. False when it cannot be folded, for want of values that the log left out; the batch is
    /// then applied as it came, but all of the transaction has been routed.
    /// </summary>
    private bool TryAdd(Dictionary<TableName, TableFold> folds, ChangeTally tally, SpooledFragment fragment)
    {
        var folded = true;
        var changes = new ChangeReader(fragment.Changes);
        while (changes.TryRead(out var change))
        {
            var held = router.Tables;
            folded &= TryRoute(fragment, change);
            folded &= TryFoldRouted(folds, tally, fragment);

            if (!ReferenceEquals(held, router.Tables))
            {
                tally.AddSchemaChange(spool.Relation(change.Relation).Name, fragment.CommittedAt);
            }
        }

        folded &= TryRoute(fragment, null);
        return TryFoldRouted(folds, tally, fragment) && folded;
    }

    private bool TryFoldRouted(Dictionary<TableName, TableFold> folds, ChangeTally tally, SpooledFragment fragment)
    {
        var folded = true;
        foreach (var one in routed)
        {
            folded = folded && TryFold(folds, one);
            tally.Add(one, fragment);
        }

        return folded;
    }

    /// <summary>
    /// False when a change cannot be treated, or for null what its transaction made as a whole; applied one by one, it is met again and
    /// named.
    /// </summary>
    private bool TryRoute(SpooledFragment fragment, RowChange? change)
    {
        routed.Clear();
        try
        {
            if (change is { } one)
            {
                router.Route(fragment, one, routed);
            }
            else
            {
                router.End(fragment, routed);
            }

            return true;
        }
        catch (RowRefusedException)
        {
            return false;
        }
    }

    private static bool TryFold(Dictionary<TableName, TableFold> folds, RoutedChange routed)
    {
        if (!folds.TryGetValue(routed.Form.Name, out var fold))
        {
            folds.Add(routed.Form.Name, fold = new TableFold(routed.Form));
        }

        try
        {
            fold.Add(routed.Change);
            return true;
        }
        catch (FoldingException)
        {
            return false;
        }
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
