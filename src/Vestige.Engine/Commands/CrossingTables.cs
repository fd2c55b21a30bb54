using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;
using Vestige.Engine.Undoing;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Adds tables to a crossing that was started, and removes them. Its other tables continue: those that are added are loaded beside the
/// stream, and what leaves is not waited for. Safe for several threads.
/// </summary>
public sealed class CrossingTables
{
    private readonly EngineServices services;
    private readonly IConnections connections;
    private readonly CrossingRegistry registry;
    private readonly CrossingEditor editor;
    private readonly CrossingOpener opener;
    private readonly OwnCopies copies;
    private readonly TableUndo undo;

    internal CrossingTables(
        EngineServices services,
        CrossingRegistry registry,
        CrossingEditor editor,
        CrossingOpener opener,
        OwnCopies copies,
        TableUndo undo
    )
    {
        (this.services, connections) = (services, services.Connections);
        (this.copies, this.undo) = (copies, undo);
        (this.registry, this.editor, this.opener) = (registry, editor, opener);
    }

    /// <summary>
    /// The definition with these tables; what it means says <see cref="CrossingEngine.CompareAsync"/>. Throws
    /// <see cref="RequestRefusedException"/> where one of them cannot be named in a rule.
    /// </summary>
    public CrossingDefinition With(string crossing, IReadOnlyList<TableName> tables)
    {
        ArgumentNullException.ThrowIfNull(tables);
        var before = StartedOf(crossing).Stored.Definition;
        ThrowIfNone(tables);
        if (tables.FirstOrDefault(table => TablePattern.IsPattern(table.ToString())) is { Name: not null } pattern)
        {
            throw new RequestRefusedException($"A rule for {pattern} would be a pattern.")
            {
                Remedy = "Change the rules in the definition.",
            };
        }

        return before with { Tables = before.Tables.Taking(tables) };
    }

    /// <summary>
    /// Adds them; they are loaded while the others follow. Throws <see cref="NotReadyException"/> with every check where that cannot be
    /// done; nothing is done then.
    /// </summary>
    public Task AddAsync(string crossing, IReadOnlyList<TableName> tables, string by, string? typed, CancellationToken cancellation)
    {
        var seen = registry.Existing(crossing).Stored.Definition;
        return editor.ChangeAsync(
            With(crossing, tables),
            by,
            typed,
            cancellation,
            _ =>
                registry.Existing(crossing).Stored.Definition == seen
                    ? Task.CompletedTask
                    : throw new RequestRefusedException($"The definition of {crossing} was changed meanwhile.") { Remedy = "Try again." }
        );
    }

    /// <summary>What removing them would mean. Reads nothing.</summary>
    public TableRemoval RemovalOf(string crossing, IReadOnlyList<TableName> tables)
    {
        ArgumentNullException.ThrowIfNull(tables);
        var entry = StartedOf(crossing);
        ThrowIfNone(tables);
        var (definition, progress) = (entry.Stored.Definition, entry.Progress);
        var mine = progress.Tables.Where(table => definition.Tables.Takes(table.Table)).Select(table => table.Table).ToHashSet();
        if (tables.FirstOrDefault(table => !mine.Contains(table)) is { Name: not null } unknown)
        {
            throw new RequestRefusedException($"The crossing has no table {unknown}.") { Remedy = "Name tables of this crossing." };
        }

        if (mine.IsSubsetOf(tables))
        {
            throw new RequestRefusedException("A crossing has at least one table.") { Remedy = "Remove the crossing." };
        }

        var into = copies.Of(entry, tables);
        var editing = connections.Target(definition.Target).Find<ISchemaEditor>();
        var why = WhyKept(entry, tables, editing);
        return new TableRemoval(
            into,
            why is null ? [.. into.Select(editing!.DropStatementFor)] : [],
            why,
            undo.WhyNot(entry, tables),
            ReadersOf(definition.Target, into),
            entry.Quarantine.All.Count(change => tables.Contains(change.Table))
        );
    }

    /// <summary>
    /// Removes them, and drops their copies where that is asked for. Throws <see cref="RequestRefusedException"/> where they cannot be
    /// dropped, and <see cref="PortException"/> where the target refuses; nothing is done then.
    /// </summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="tables">The source's tables.</param>
    /// <param name="drops">Null where the copies stay.</param>
    /// <param name="by">Who asks for it.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task RemoveAsync(
        string crossing,
        IReadOnlyList<TableName> tables,
        DroppedCopies? drops,
        string by,
        CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(tables);
        drops?.ThrowIfOutOfRange();
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        var removal = RemovalOf(crossing, tables);
        var why = removal.KeptBecause ?? (drops?.UndoHours is null ? null : removal.NoUndoBecause);
        if (drops is not null && why is not null)
        {
            throw new RequestRefusedException(why)
            {
                Remedy = removal.KeptBecause is null ? "Drop the tables at once, or keep them." : "Keep the tables on the target.",
            };
        }

        var definition = Without(entry.Stored.Definition, tables);
        await entry.HaltAsync(new StopRequest(StopMode.Transaction));
        try
        {
            // What is dropped is no copy any more from the same moment. A definition that is not kept then loads it again.
            if (drops is not null)
            {
                await DropAsync(definition, tables, removal.Copies, RequestOf(definition, drops, by), cancellation);
            }

            await editor.KeepAsync(entry, definition, by, cancellation);
            if (drops is null)
            {
                await LeaveAsync(definition, tables, removal.Copies, cancellation);
            }

            await entry.Quarantine.DropAsync(tables, cancellation);
            await entry.Verdicts.ForgetAsync(tables, cancellation);
        }
        finally
        {
            await opener.OpenAsync(entry, CancellationToken.None);
        }

        var names = Figures.Listed([.. tables.Select(table => table.ToString())], tables.Count);
        var fate =
            drops is null ? "Their copies stay on the target."
            : $"Dropped on the target: {string.Join(", ", removal.Copies)}."
                + (drops.UndoHours is { } hours ? $" They can be restored for {Figures.Of(hours, "hour")}." : "");
        await services.Events.OfCrossingAsync(crossing, EventKind.Note, $"Removed from the crossing: {names}. {fate}", by);
    }

    /// <summary>Tables that a step of the treatment names are left by name, so that the step is no mistake.</summary>
    private static CrossingDefinition Without(CrossingDefinition definition, IReadOnlyList<TableName> tables)
    {
        var left = definition.Tables.Leaving(tables);
        var named = tables
            .Select(table => table.ToString())
            .Where(name => definition.Treatment?.Any(step => step.Tables == name) == true && left.Rules.All(rule => rule.Leave != name));
        return definition with { Tables = left with { Rules = [.. left.Rules, .. named.Select(name => new TableRule(Leave: name))] } };
    }

    private async Task LeaveAsync(
        CrossingDefinition definition,
        IReadOnlyList<TableName> tables,
        IReadOnlyList<TableName> copies,
        CancellationToken cancellation
    )
    {
        await using var session = await OpenAsync(definition, cancellation);
        if (BesideOf(definition, copies) is not { Count: > 0 } beside)
        {
            await session.SaveAsync(Leaving(tables), cancellation);
            return;
        }

        await using var transaction = await ((ITargetSession)session).BeginAsync(checkReferences: false, cancellation);
        await connections.Target(definition.Target).Find<ISchemaEditor>()!.DropAsync(transaction, beside, cancellation);
        await transaction.CommitAsync(Leaving(tables), cancellation);
    }

    /// <summary>What a load in place that does not come to its end leaves beside the tables.</summary>
    private List<TableName> BesideOf(CrossingDefinition definition, IReadOnlyList<TableName> copies)
    {
        var target = connections.Target(definition.Target);
        return target.Find<ISchemaEditor>() is null || target.Find<IRowReplacement>() is not { } replacement
            ? []
            : [.. copies.Select(copy => replacement.BesideOf(definition.Name, new TableSchema(copy, [], [], [])).Name)];
    }

    /// <summary>The copies are gone and the tables have left, or neither.</summary>
    private async Task DropAsync(
        CrossingDefinition definition,
        IReadOnlyList<TableName> tables,
        IReadOnlyList<TableName> into,
        UndoRequest? kept,
        CancellationToken cancellation
    )
    {
        await using var session = await OpenAsync(definition, cancellation);
        await using var transaction = await ((ITargetSession)session).BeginAsync(checkReferences: false, cancellation);
        var editing = connections.Target(definition.Target).Find<ISchemaEditor>()!;
        await editing.DropAsync(transaction, BesideOf(definition, into), cancellation);
        if (kept is not null)
        {
            await undo.TakeAwayAsync(transaction, kept, into, CommitAsync, cancellation);
            return;
        }

        await editing.DropAsync(transaction, into, cancellation);
        await CommitAsync();

        Task CommitAsync() => transaction.CommitAsync(Leaving(tables), cancellation);
    }

    private async Task<IProgressSession> OpenAsync(CrossingDefinition definition, CancellationToken cancellation) =>
        await connections
            .Target(definition.Target)
            .Progress.OpenProgressAsync(
                definition.Name,
                await services.Stores.Control.NextTermAsync(definition.Name, 0, cancellation),
                cancellation
            );

    private static ProgressUpdate Leaving(IReadOnlyList<TableName> tables) => new(null, [.. tables.Select(CrossingEditor.Bare)]);

    private static UndoRequest? RequestOf(CrossingDefinition definition, DroppedCopies drops, string by) =>
        drops.UndoHours is { } hours
            ? new UndoRequest(definition.Target, definition.Name, $"Removed from {definition.Name}.", by, hours)
            : null;

    private List<string> ReadersOf(string connection, IReadOnlyList<TableName> into) =>
        [
            .. registry
                .All.Where(other => other.Stored.Definition.Source == connection && into.Any(other.Stored.Definition.Tables.Takes))
                .Select(other => other.Name)
                .Order(StringComparer.Ordinal),
        ];

    /// <summary>Why the copies can only be kept, as a sentence; null where they can be dropped.</summary>
    private string? WhyKept(CrossingEntry entry, IReadOnlyList<TableName> tables, ISchemaEditor? editing) =>
        editing is null || connections.Target(entry.Stored.Definition.Target).Find<ITableTarget>() is null
            ? $"{entry.Stored.Definition.Target} does not drop tables."
            : copies.WhyNotAlone(entry, tables);

    private CrossingEntry StartedOf(string crossing)
    {
        var entry = registry.Existing(crossing);
        return entry.Stored.Begun
            ? entry
            : throw new RequestRefusedException($"{crossing} is a draft.") { Remedy = "Change its definition." };
    }

    private static void ThrowIfNone(IReadOnlyList<TableName> tables)
    {
        if (tables.Count == 0)
        {
            throw new RequestRefusedException("No table is named.") { Remedy = "Name tables as schema.table." };
        }
    }
}
