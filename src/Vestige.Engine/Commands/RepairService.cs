using Vestige.Core.Changes;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Where people have rows of the target made as the source has them. It is done by the crossing's own worker in the order of the log,
/// kept whole, and can be taken back. Throws <see cref="RequestRefusedException"/> for what cannot be. Safe for several threads.
/// </summary>
public sealed class RepairService
{
    private const int AtOnce = 10_000;
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(60);
    private static readonly TimeSpan LookAgain = TimeSpan.FromMilliseconds(20);
    private readonly CrossingRegistry registry;
    private readonly IConnections connections;
    private readonly IReconciliationStore? store;
    private readonly EventLog events;
    private readonly TimeProvider clock;
    private readonly Func<CrossingEntry, CancellationToken, ViewRequest> request;

    internal RepairService(
        CrossingRegistry registry,
        IConnections connections,
        IReconciliationStore? store,
        EventLog events,
        TimeProvider clock,
        Func<CrossingEntry, CancellationToken, ViewRequest> request
    )
    {
        (this.registry, this.connections, this.store, this.events, this.clock, this.request) = (
            registry,
            connections,
            store,
            events,
            clock,
            request
        );
    }

    /// <summary>The repairs of a crossing, the latest first.</summary>
    public async Task<IReadOnlyList<Repair>> ListAsync(string crossing, CancellationToken cancellation) =>
        store is null ? [] : await store.RepairsAsync(crossing, 100, cancellation);

    /// <summary>What repairs did to one row, the earliest first.</summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="table">The source's table.</param>
    /// <param name="key">The row's key by its columns, as a person reads them.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IReadOnlyList<RowRepair>> OfRowAsync(
        string crossing,
        TableName table,
        IReadOnlyList<string> key,
        CancellationToken cancellation
    ) => RepairedRows.Of(await ListAsync(crossing, cancellation), table, key);

    /// <summary>The statement by which a difference would be repaired, with marks where its values go.</summary>
    public string StatementFor(string crossing, TableFinding finding, RowDifference row)
    {
        ArgumentNullException.ThrowIfNull(finding);
        ArgumentNullException.ThrowIfNull(row);
        var change = row.Kind switch
        {
            DifferenceKind.Missing => new RowChange(ChangeKind.Insert, 0, default, row.Expected),
            DifferenceKind.Extra => new RowChange(ChangeKind.Delete, 0, row.Found, default),
            _ => new RowChange(ChangeKind.Update, 0, row.Found, row.Expected),
        };
        var definition = registry.Existing(crossing).Stored.Definition;
        var target = connections.Target(definition.Target);
        return finding.Schema is { } form ? target.Tables.StatementFor(form, change) : "";
    }

    /// <summary>Repairs rows that a comparison listed, as the source has them by then.</summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="reconciliation">The comparison.</param>
    /// <param name="chosen">Which of its rows: tables of the target and places in their lists; null for all.</param>
    /// <param name="delete">Whether rows that only the target has are deleted; otherwise they are left alone.</param>
    /// <param name="by">Who asks.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<Repair> RepairAsync(
        string crossing,
        Reconciliation reconciliation,
        IReadOnlyCollection<(TableName Into, int Ordinal)>? chosen,
        bool delete,
        string by,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(reconciliation);
        var rows = reconciliation
            .Tables.SelectMany(table => table.Rows.Select((row, ordinal) => (Table: table, Row: row, Ordinal: ordinal)))
            .Where(one => chosen?.Contains((one.Table.Into, one.Ordinal)) != false && (delete || one.Row.Kind != DifferenceKind.Extra))
            .Take(AtOnce)
            .Select(one => new RowToRepair(one.Table.Source, one.Table.Into, one.Row.Key))
            .ToList();
        if (rows.Count == 0)
        {
            throw new RequestRefusedException("No row is chosen.")
            {
                Remedy = delete
                    ? "Choose rows that differ."
                    : "Choose rows that differ; rows that only the target has are deleted only when that is asked.",
            };
        }

        return await DoAsync(crossing, reconciliation.Id, rows, null, by, cancellation);
    }

    /// <summary>Puts the rows of a repair back as they were before it, where they are still as it left them.</summary>
    public async Task<Repair> UndoAsync(string crossing, string id, string by, CancellationToken cancellation)
    {
        var repair = (await ListAsync(crossing, cancellation)).FirstOrDefault(one => one.Id == id)
            ?? throw new RequestRefusedException($"There is no repair {id}.") { Remedy = "Look at the list of repairs." };
        if (repair.UndoneBy is not null)
        {
            throw new RequestRefusedException("It was undone already.") { Remedy = "Look at the list of repairs." };
        }

        var rows = repair
            .Rows.Where(row => row.Note is null)
            .Select(row => new RowToRepair(row.Source, row.Into, row.Key, row.Before, row.After))
            .ToList();
        return await DoAsync(crossing, repair.Reconciliation, rows, repair, by, cancellation);
    }

    private async Task<Repair> DoAsync(
        string crossing,
        string reconciliation,
        List<RowToRepair> rows,
        Repair? undoes,
        string by,
        CancellationToken cancellation
    )
    {
        var entry = registry.Existing(crossing);
        ThrowIfResting(entry);
        var asked = request(entry, cancellation);
        var holder = $"repair/{Guid.NewGuid():N}";
        asked.Spool.Retain(holder, asked.Applied());
        try
        {
            await using var view = await BranchReads.ViewAsync(asked.Source, asked.Spool, cancellation);
            var order = new RepairOrder(view, rows, undoes is not null);
            var (position, done) = await WaitAsync(entry, order, cancellation);
            var repair = new Repair(
                Guid.NewGuid().ToString("N")[..12],
                crossing,
                reconciliation,
                by,
                clock.GetUtcNow(),
                position,
                done,
                undoes?.Id
            );
            await KeepAsync(entry, repair, undoes);
            return repair;
        }
        finally
        {
            asked.Spool.Release(holder);
        }
    }

    /// <summary>Has rows written, of which nothing is kept; what they were cannot be taken back.</summary>
    internal async Task<IReadOnlyList<RepairedRow>> WriteAsync(CrossingEntry entry, RepairOrder order, CancellationToken cancellation) =>
        (await WaitAsync(entry, order, cancellation)).Rows;

    /// <summary>Throws where no worker is there to write rows.</summary>
    internal static void ThrowIfResting(CrossingEntry entry)
    {
        if (entry.Worker is not { Running.IsCompleted: false })
        {
            throw new RequestRefusedException(
                $"{entry.Name} does not run. Rows are repaired in the order of its changes, so that none newer is overwritten."
            )
            {
                Remedy = entry.NextRun is null
                    ? "Let it run."
                    : "Remove its schedule for the moment: between two runs no worker is there to repair rows.",
            };
        }
    }

    /// <summary>Once a worker has taken it, there is no going back.</summary>
    private async Task<(Core.Positions.LogPosition Position, IReadOnlyList<RepairedRow> Rows)> WaitAsync(
        CrossingEntry entry,
        RepairOrder order,
        CancellationToken cancellation
    )
    {
        entry.Repairs.Add(order);
        var until = clock.GetUtcNow() + Patience;
        while (!order.Done.IsCompleted && clock.GetUtcNow() < until && !cancellation.IsCancellationRequested)
        {
            await Task.Delay(LookAgain, clock, CancellationToken.None);
        }

        if (!order.Done.IsCompleted && entry.Repairs.Remove(order))
        {
            cancellation.ThrowIfCancellationRequested();
            throw new RequestRefusedException($"{entry.Name} did not get to it within {Figures.Duration(Patience)}; nothing was changed.")
            {
                Remedy = "Try again when it follows.",
            };
        }

        return await order.Done;
    }

    /// <summary>What was written is kept whatever happens now.</summary>
    private async Task KeepAsync(CrossingEntry entry, Repair repair, Repair? undoes)
    {
        if (store is not null)
        {
            await store.SaveAsync(repair, CancellationToken.None);
            if (undoes is not null)
            {
                await store.SaveAsync(undoes with { UndoneBy = repair.Id }, CancellationToken.None);
            }
        }

        await entry.Verdicts.RepairedAsync([.. repair.Rows.Select(row => row.Source).Distinct()], CancellationToken.None);
        var left = repair.Rows.Count - repair.Changed;
        await events.OfCrossingAsync(
            entry.Name,
            EventKind.Warning,
            $"{(undoes is null ? "Repaired" : "Taken back")}: {Figures.Of(repair.Changed, "row")} of the "
                + $"target{(left > 0 ? $"; {Figures.Count(left)} left as they were" : "")}.",
            repair.By
        );
    }
}
