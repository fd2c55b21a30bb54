using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;
using Vestige.Engine.Undoing;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Loads tables of a crossing again.</summary>
internal sealed class CrossingReload(
    EngineServices services,
    Captures captures,
    CrossingRegistry registry,
    CrossingOpener opener,
    TableUndo undo,
    Func<CrossingEntry, IReadOnlyList<TableName>> tablesOf,
    Func<CrossingEntry, DesiredState, string, StopMark?, CancellationToken, Task> desire
)
{
    private readonly IConnections connections = services.Connections;
    private readonly IControlStore store = services.Stores.Control;
    private readonly EventLog events = services.Events;

    /// <summary>What it would mean. Reads nothing; with no table named it is all of them, from the beginning.</summary>
    public ReloadPlan PlanOf(string crossing, IReadOnlyList<TableName> tables, CrossingTreatment treating)
    {
        var entry = registry.Existing(crossing);
        var definition = entry.Stored.Definition;
        var goOn = tables.Count > 0 && OthersGoOn(definition, entry.Progress, connections.Target(definition.Target));
        var ways = tables.ToLookup(table => goOn && treating.IsReplaceable(table));
        TableName? inPlace = ways[true].Any() ? ways[true].First() : null;
        return new ReloadPlan(
            goOn,
            [.. ways[true]],
            [.. ways[false]],
            inPlace is { } one
                ? $"{one} is loaded again in place: its rows stay until others replace them."
                : undo.WhyNot(entry, tables.Count > 0 ? tables : tablesOf(entry))
        );
    }

    /// <summary>Whether the tables of a crossing follow while others of it are loaded.</summary>
    public static bool OthersGoOn(CrossingDefinition definition, TargetProgress progress, TargetSystem target) =>
        progress.Position is not null
        && definition is { EndsByItself: false, Schedule: null }
        && target.Find<ITableTarget>() is not null;

    public async Task ReloadAsync(
        string crossing,
        IReadOnlyList<TableName> tables,
        string by,
        DroppedCopies copies,
        CrossingTreatment treating,
        CancellationToken cancellation
    )
    {
        copies.ThrowIfOutOfRange();
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        if (!entry.Stored.Begun)
        {
            throw new RequestRefusedException($"{crossing} was never started.") { Remedy = "Start it." };
        }

        if (tables.Count > 0 && entry.Stored.Desired == DesiredState.Finish)
        {
            throw new RequestRefusedException($"{crossing} is finished: its tables are as of one position.")
            {
                Remedy = "Load the whole crossing again.",
            };
        }

        var again = tables.Count > 0 ? tables : tablesOf(entry);
        CrossingEditor.ThrowIfMerged(entry.Stored.Definition, again);
        if (copies.UndoHours is not null && PlanOf(crossing, tables, treating).NoUndoBecause is { } why)
        {
            throw new RequestRefusedException(why) { Remedy = "Load the tables again without keeping the present ones." };
        }

        var capture = captures.Find(entry.Stored.Definition.Source);
        if (tables.Count > 0 && capture?.Loss is { } loss)
        {
            throw new RequestRefusedException($"The place in the source's log is lost, for all tables. {loss.Message}")
            {
                Remedy = "Load the whole crossing again.",
            };
        }

        // Asked before anything is stopped: a crossing that cannot be loaded again continues as it is.
        var target = connections.Target(entry.Stored.Definition.Target);
        _ = Again(await target.Progress.ReadProgressAsync(crossing, cancellation), tables);
        await RefuseGoneAsync(entry, tables, cancellation);
        var atWork = entry.Worker is { Running.IsCompleted: false };
        await entry.HaltAsync(new StopRequest(StopMode.Now));
        try
        {
            await desire(entry, DesiredState.Pause, by, null, cancellation);
            await MarkAsync(entry, tables, RequestOf(entry, tables, copies, by), cancellation);
        }
        catch when (atWork)
        {
            // Nothing is loaded again, or it is marked and loaded as soon as the target can be asked: what was at work goes on.
            await desire(entry, DesiredState.Run, by, null, CancellationToken.None);
            await opener.OpenAsync(entry, CancellationToken.None);
            throw;
        }

        await entry.Quarantine.DropAsync(tables.Count == 0 ? null : tables, cancellation);
        await entry.Verdicts.ForgetAsync(tables.Count == 0 ? null : tables, cancellation);
        if (capture is { Loss: not null })
        {
            await capture.RestartAsync(cancellation);
        }

        await events.OfCrossingAsync(
            crossing,
            EventKind.Note,
            tables.Count == 0 ? "All tables are loaded again." : $"Loaded again: {string.Join(", ", tables)}.",
            by
        );
        await desire(entry, DesiredState.Run, by, null, cancellation);
        await opener.OpenAsync(entry, cancellation, beginRun: true);
    }

    /// <summary>Notes what is to be loaded; in the same step the present copies are taken away, where they are kept.</summary>
    private async Task MarkAsync(CrossingEntry entry, IReadOnlyList<TableName> tables, UndoRequest? kept, CancellationToken cancellation)
    {
        await using var session = await connections
            .Target(entry.Stored.Definition.Target)
            .Progress.OpenProgressAsync(entry.Name, await store.NextTermAsync(entry.Name, 0, cancellation), cancellation);
        var update = new ProgressUpdate(null, Again(session.Progress, tables), Restart: tables.Count == 0);
        if (kept is null)
        {
            await session.SaveAsync(update, cancellation);
            return;
        }

        var copies = undo.CopiesOf(entry, tables.Count > 0 ? tables : tablesOf(entry));
        await using var transaction = await ((ITargetSession)session).BeginAsync(checkReferences: false, cancellation);
        await undo.TakeAwayAsync(transaction, kept, copies, () => transaction.CommitAsync(update, cancellation), cancellation);
    }

    private static UndoRequest? RequestOf(CrossingEntry entry, IReadOnlyList<TableName> tables, DroppedCopies copies, string by) =>
        copies.UndoHours is { } hours
            ? new UndoRequest(
                entry.Stored.Definition.Target,
                entry.Name,
                tables.Count == 0 ? $"All tables of {entry.Name} were loaded again." : $"Loaded again by {entry.Name}.",
                by,
                hours
            )
            : null;

    /// <summary>
    /// Of named tables all must be there and able to cross; of all, those that were made since cross only where the rules take later ones.
    /// </summary>
    private async Task RefuseGoneAsync(CrossingEntry entry, IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        if (tables.Count == 0)
        {
            return;
        }

        var definition = entry.Stored.Definition;
        var source = connections.Source(definition.Source);
        var there = (await source.Catalogue.ReadTablesAsync(cancellation)).ToDictionary(table => table.Schema.Name);
        foreach (var table in tables)
        {
            if (!there.TryGetValue(table, out var found) || !found.CrossesAs(definition.AppliedAs(table)))
            {
                throw new RequestRefusedException(
                    found is null ? $"The source has no table {table} now." : $"{table} cannot be replicated: {found.Reason}."
                )
                {
                    Remedy = "Change it at the source, or leave it out of the crossing.",
                };
            }
        }

        // What would fail in the load would keep the crossing's other tables from following.
        var checks = await source.Log.CheckSourceAsync(tables, cancellation);
        if (checks.Select(definition.Judge).FirstOrDefault(check => !check.Ok) is { } wrong)
        {
            throw new RequestRefusedException($"{wrong.Step} does not hold: {wrong.Found}.")
            {
                Remedy = wrong.Remedy ?? "Look at the connection's page.",
            };
        }
    }

    private static List<TableProgress> Again(TargetProgress progress, IReadOnlyList<TableName> tables)
    {
        var unknown = tables.Where(name => progress.Tables.All(table => table.Table != name)).ToList();
        if (unknown.Count > 0)
        {
            throw new RequestRefusedException($"The crossing has no table {unknown[0]}.") { Remedy = "Name tables of this crossing." };
        }

        return [.. progress.Tables.Where(table => tables.Count == 0 || tables.Contains(table.Table)).Select(table => table.Anew())];
    }
}
