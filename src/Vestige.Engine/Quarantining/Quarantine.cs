using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Quarantining;

/// <summary>
/// The changes of one crossing that wait. A change is kept here before the target's transaction that passes it over commits, and
/// counts only once that has: the position on the target says which it has passed, so the two cannot disagree after a crash.
/// Safe for several threads.
/// </summary>
internal sealed class Quarantine(string crossing, IQuarantineStore store)
{
    private readonly Lock gate = new();
    private readonly SortedDictionary<(LogPosition Position, int Ordinal), WaitingChange> waiting = [];
    private readonly Dictionary<TableName, Dictionary<RowKey, int>> blocked = [];
    private readonly AsyncLock writing = new();
    private AsideChanges? pending;
    private volatile bool isEmpty = true;
    private long decisions;

    /// <summary>Beats when a person has decided something, for the worker to see to it.</summary>
    public AsyncSignal Decided { get; } = new();

    public bool IsEmpty => isEmpty;

    /// <summary>Grows whenever something that waits may have become due to be tried.</summary>
    public long Decisions => Interlocked.Read(ref decisions);

    /// <summary>How many changes wait.</summary>
    public int Count
    {
        get
        {
            lock (gate)
            {
                return waiting.Count;
            }
        }
    }

    /// <summary>What waits, in the order of the log.</summary>
    public IReadOnlyList<WaitingChange> All
    {
        get
        {
            lock (gate)
            {
                return [.. waiting.Values];
            }
        }
    }

    /// <summary>A change as it waits now; null when it does not any more.</summary>
    public WaitingChange? Find(WaitingChange change)
    {
        lock (gate)
        {
            return waiting.GetValueOrDefault((change.Position, change.Ordinal));
        }
    }

    /// <summary>What waits that the target has passed; others will be met again.</summary>
    public IReadOnlyList<WaitingChange> UpTo(LogPosition? applied) => isEmpty ? [] : [.. All.Where(change => change.Position <= applied)];

    /// <summary>Whether an earlier change of a row waits.</summary>
    public bool Blocks(TableName table, IEnumerable<RowKey> keys)
    {
        lock (gate)
        {
            return blocked.TryGetValue(table, out var rows) && keys.Any(rows.ContainsKey);
        }
    }

    /// <summary>Whether anything of a table waits.</summary>
    public bool Has(TableName table)
    {
        lock (gate)
        {
            return blocked.ContainsKey(table);
        }
    }

    /// <summary>Whether a rule lets so many more refused rows wait.</summary>
    public bool Allows(QuarantineRule? rule, AsideChanges more, long changesOfAnHour)
    {
        if (rule is null)
        {
            return false;
        }

        lock (gate)
        {
            var refused =
                waiting.Values.LongCount(change => change.State != WaitingState.Behind)
                + more.Changes.LongCount(change => change.State != WaitingState.Behind);
            return waiting.Count + more.Changes.Count <= QuarantineRule.MostChanges && rule.Allows(refused, changesOfAnHour);
        }
    }

    /// <summary>Reads what waits, for looking at it before a worker runs.</summary>
    public async Task RecallAsync(CancellationToken cancellation)
    {
        var found = await store.ReadAsync(crossing, cancellation);
        lock (gate)
        {
            Replace(found);
        }
    }

    /// <summary>
    /// Reads what waits and drops what does not count: changes that the target has not passed in their table, for they will be met again,
    /// those of tables that were loaded or emptied since, and those of tables that do not cross any more.
    /// </summary>
    public async Task OpenAsync(TargetProgress progress, CancellationToken cancellation)
    {
        using var locked = await writing.EnterAsync(cancellation);
        var found = await store.ReadAsync(crossing, cancellation);
        var tables = progress.Tables.ToDictionary(table => table.Table);
        var standing = found.Where(change => Stands(change, progress, tables)).ToList();
        var changed = standing
            .Where(change => change.Trying || change.VoidAt is not null)
            .Select(change => change with { Trying = false, VoidAt = null, State = change.Trying ? WaitingState.Unsure : change.State })
            .ToList();
        if (changed.Count > 0 || standing.Count < found.Count)
        {
            await store.WriteAsync(crossing, changed, [.. found.Except(standing).Select(change => change.Id)], [], cancellation);
        }

        var replaced = changed.ToDictionary(change => change.Id);
        lock (gate)
        {
            pending = null;
            Replace(standing.Select(change => replaced.GetValueOrDefault(change.Id, change)));
        }
    }

    /// <summary>Keeps what a transaction of the target is about to pass over. It counts from <see cref="Committed"/> on.</summary>
    public async Task KeepAsync(AsideChanges aside, CancellationToken cancellation)
    {
        if (aside.IsNone)
        {
            return;
        }

        using var locked = await writing.EnterAsync(cancellation);
        var voided = VoidedBy(aside);
        await store.WriteAsync(crossing, [.. aside.Changes, .. voided], [], [], cancellation);
        lock (gate)
        {
            pending = aside;
        }
    }

    /// <summary>The transaction has committed.</summary>
    public async Task CommittedAsync(CancellationToken cancellation)
    {
        using var locked = await writing.EnterAsync(cancellation);
        AsideChanges? done;
        lock (gate)
        {
            done = pending;
            pending = null;
        }

        if (done is null)
        {
            return;
        }

        var voided = VoidedBy(done);
        lock (gate)
        {
            voided.ForEach(Remove);
            foreach (var change in done.Changes)
            {
                // What it was to wait behind may have been dropped meanwhile.
                decisions += change.State == WaitingState.Behind && !IsBlocked(change) ? 1 : 0;
                Add(change);
            }
        }

        if (voided.Count > 0)
        {
            // Should this fail, they are known to be void by the position, and are dropped at the next opening.
            await store.WriteAsync(crossing, [], [.. voided.Select(change => change.Id)], [], cancellation);
        }
    }

    /// <summary>Writes other contents or another state of changes that wait still; those that do not are left alone.</summary>
    /// <param name="ids">The changes.</param>
    /// <param name="change">What becomes of each.</param>
    /// <param name="cancellation">Gives up.</param>
    /// <param name="decided">The record of it, where a person has edited the row.</param>
    public async Task<IReadOnlyList<WaitingChange>> ChangeAsync(
        IReadOnlyCollection<string> ids,
        Func<WaitingChange, WaitingChange> change,
        CancellationToken cancellation,
        Func<WaitingChange, DecidedChange>? decided = null
    )
    {
        using var locked = await writing.EnterAsync(cancellation);
        List<WaitingChange> before = [.. All.Where(one => ids.Contains(one.Id))];
        List<WaitingChange> changed = [.. before.Select(change)];
        await store.WriteAsync(crossing, changed, [], decided is null ? [] : [.. before.Select(decided)], cancellation);
        lock (gate)
        {
            decisions += changed.Exists(one => one.State == WaitingState.Asked) ? 1 : 0;
            foreach (var one in changed.Where(one => waiting.ContainsKey((one.Position, one.Ordinal))))
            {
                Remove(one);
                Add(one);
            }
        }

        return changed;
    }

    /// <summary>Drops changes: they were applied, or a person has given them up.</summary>
    /// <param name="ids">The changes.</param>
    /// <param name="cancellation">Gives up.</param>
    /// <param name="decided">The record of it, where a person has given them up.</param>
    public async Task<IReadOnlyList<WaitingChange>> DropAsync(
        IReadOnlyCollection<string> ids,
        CancellationToken cancellation,
        Func<WaitingChange, DecidedChange>? decided = null
    )
    {
        using var locked = await writing.EnterAsync(cancellation);
        List<WaitingChange> dropped = [.. All.Where(change => ids.Contains(change.Id))];
        await store.WriteAsync(
            crossing,
            [],
            [.. dropped.Select(change => change.Id)],
            decided is null ? [] : [.. dropped.Select(decided)],
            cancellation
        );
        lock (gate)
        {
            dropped.ForEach(Remove);
            decisions++;
        }

        return dropped;
    }

    /// <summary>Drops everything of some tables that are loaded again, or all.</summary>
    public Task DropAsync(IReadOnlyCollection<TableName>? tables, CancellationToken cancellation) =>
        DropAsync([.. All.Where(change => tables is null || tables.Contains(change.Table)).Select(change => change.Id)], cancellation);

    /// <summary>What was decided, the latest first; of one table of the source where that is given.</summary>
    public Task<IReadOnlyList<DecidedChange>> DecidedAsync(TableName? table, int most, CancellationToken cancellation) =>
        store.DecidedAsync(crossing, table, most, cancellation);

    /// <summary>The crossing is removed, and all that waits with it.</summary>
    public async Task ForgetAsync(CancellationToken cancellation)
    {
        await DropAsync((IReadOnlyCollection<TableName>?)null, cancellation);
        await store.ForgetAsync(crossing, cancellation);
    }

    private static bool Stands(WaitingChange change, TargetProgress progress, Dictionary<TableName, TableProgress> tables) =>
        tables.TryGetValue(change.Table, out var table)
        && (table.Reached ?? progress.Position) is { } applied
        && change.Position <= applied
        && !(change.VoidAt <= applied)
        && table.Loaded
        && table.Position < change.Position;

    /// <summary>What waits of tables that were truncated since, with the mark of it.</summary>
    private List<WaitingChange> VoidedBy(AsideChanges aside) =>
        aside.Truncated.Count == 0
            ? []
            :
            [
                .. All.Where(change => aside.Truncated.TryGetValue(change.Table, out var at) && change.Position <= at)
                    .Select(change => change with { VoidAt = aside.Truncated[change.Table] }),
            ];

    private void Replace(IEnumerable<WaitingChange> found)
    {
        decisions++;
        waiting.Clear();
        blocked.Clear();
        isEmpty = true;
        foreach (var change in found)
        {
            Add(change);
        }
    }

    private bool IsBlocked(WaitingChange change) => blocked.TryGetValue(change.Table, out var rows) && change.Keys.Any(rows.ContainsKey);

    private void Add(WaitingChange change)
    {
        waiting[(change.Position, change.Ordinal)] = change;
        if (!blocked.TryGetValue(change.Table, out var rows))
        {
            blocked.Add(change.Table, rows = []);
        }

        foreach (var key in change.Keys)
        {
            rows[key] = rows.GetValueOrDefault(key) + 1;
        }

        isEmpty = false;
    }

    private void Remove(WaitingChange change)
    {
        if (!waiting.Remove((change.Position, change.Ordinal), out var there))
        {
            return;
        }

        var rows = blocked[there.Table];
        foreach (var key in there.Keys)
        {
            if (--rows[key] == 0)
            {
                rows.Remove(key);
            }
        }

        if (rows.Count == 0)
        {
            blocked.Remove(there.Table);
        }

        isEmpty = waiting.Count == 0;
    }
}
