using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Lets tables continue that wait for a person to agree to what was done to them at the source. Their rows stand where they were held;
/// they catch up from there beside the stream, through what is agreed to. Safe for several threads.
/// </summary>
public sealed class HeldTables
{
    private readonly EngineServices services;
    private readonly Captures captures;
    private readonly CrossingRegistry registry;
    private readonly CrossingOpener opener;
    private readonly CrossingEditor editor;

    internal HeldTables(
        EngineServices services,
        Captures captures,
        CrossingRegistry registry,
        CrossingOpener opener,
        CrossingEditor editor
    ) => (this.services, this.captures, this.registry, this.opener, this.editor) = (services, captures, registry, opener, editor);

    /// <summary>
    /// The version of the source's table that holds a table of a crossing, of those that lie before where it is held. Null where it is held
    /// for another reason, or not at all.
    /// </summary>
    public async Task<SchemaVersion?> VersionAsync(string crossing, TableName table, CancellationToken cancellation)
    {
        var entry = registry.Existing(crossing);
        if (
            services.Stores.SchemaVersions is not { } versions
            || entry.Progress.Tables.FirstOrDefault(one => one.Table == table) is not { HeldCause: { } cause } held
        )
        {
            return null;
        }

        var all = await versions.OfTableAsync(entry.Stored.Definition.Source, table, cancellation);
        return all.FirstOrDefault(one =>
            one.What.Length > 0 && one.From <= held.Position && cause.Contains(one.What, StringComparison.Ordinal)
        );
    }

    /// <summary>
    /// Agrees. Throws <see cref="RequestRefusedException"/> where a table is not held, or its changes are not kept any more; nothing is
    /// done then. A crossing that is at work goes on; one that is not stays as it is.
    /// </summary>
    public async Task AgreeAsync(string crossing, IReadOnlyList<TableName> tables, string by, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(tables);
        using var locked = await registry.EnterAsync(crossing, cancellation);
        await ContinueAsync(locked.Entry, tables, null, by, cancellation);
        await TellAsync(crossing, $"Agreed to what was changed at the source: {string.Join(", ", tables)}.", by);
    }

    /// <summary>
    /// Lets them continue without what was changed: rules for each table and the kinds of its changes are added to the definition. Throws
    /// as <see cref="AgreeAsync"/> does, and where a change is of a kind that cannot be left out.
    /// </summary>
    public async Task LeaveOutAsync(string crossing, IReadOnlyList<TableName> tables, string by, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(tables);
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var before = locked.Entry.Stored.Definition;
        var rules = new List<SchemaChangeRule>(before.SchemaChanges ?? []);
        foreach (var table in tables)
        {
            rules.Add(RuleFor(table, await VersionAsync(crossing, table, cancellation)));
        }

        await ContinueAsync(locked.Entry, tables, before with { SchemaChanges = rules }, by, cancellation);
        await TellAsync(crossing, $"Left out what was changed at the source: {string.Join(", ", tables)}.", by);
    }

    private static SchemaChangeRule RuleFor(TableName table, SchemaVersion? version)
    {
        if (TablePattern.IsPattern(table.ToString()))
        {
            throw new RequestRefusedException($"A rule for {table} would be a pattern.") { Remedy = "Agree to the change, or reload." };
        }

        return version is { MayBeLeftOut: true }
            ? new SchemaChangeRule(
                table.ToString(),
                SchemaChangeAction.LeaveOut,
                [.. version.Changes.Where(change => !change.KeepsRows).Select(change => change.Kind).Distinct()]
            )
            : throw new RequestRefusedException(
                $"What was changed in {table} cannot be left out: only columns that were added, dropped or renamed, and partitions that "
                    + "are gone, can."
            )
            {
                Remedy = "Agree to the change, or reload the table.",
            };
    }

    private async Task ContinueAsync(
        CrossingEntry entry,
        IReadOnlyList<TableName> tables,
        CrossingDefinition? changed,
        string by,
        CancellationToken cancellation
    )
    {
        var crossing = entry.Name;
        var target = services.Connections.Target(entry.Stored.Definition.Target);
        var capture = captures.Find(entry.Stored.Definition.Source);
        _ = Agreed(await target.Progress.ReadProgressAsync(crossing, cancellation), tables, capture);
        var atWork = entry.Worker is { Running.IsCompleted: false };
        await entry.HaltAsync(new StopRequest(StopMode.Now));
        try
        {
            // The rule first: a table that continues meets the change under it.
            await (changed is null ? Task.CompletedTask : editor.KeepAsync(entry, changed, by, cancellation));
            await using var session = await target.Progress.OpenProgressAsync(
                crossing,
                await services.Stores.Control.NextTermAsync(crossing, 0, cancellation),
                cancellation
            );
            await session.SaveAsync(new ProgressUpdate(null, Agreed(session.Progress, tables, capture)), cancellation);
        }
        finally
        {
            if (atWork)
            {
                await opener.OpenAsync(entry, CancellationToken.None);
            }
        }
    }

    private Task TellAsync(string crossing, string what, string by) =>
        services.Events.OfCrossingAsync(crossing, EventKind.Note, what, by);

    /// <summary>Whether a held table can continue: all of its changes since are kept, in the log that is read now.</summary>
    internal static bool MayContinue(TableProgress? table, TargetProgress progress, Spool? spool) =>
        table is { Held: true, Reached: { } reached }
        && reached.Branch == progress.Position?.Branch
        && spool is { Readable: true }
        && spool.Contains(reached);

    private static List<TableProgress> Agreed(TargetProgress found, IReadOnlyList<TableName> tables, Capture? capture)
    {
        if (tables.Count == 0)
        {
            throw new RequestRefusedException("No table is named.") { Remedy = "Name held tables of this crossing." };
        }

        var progress = capture is null ? found : found.Match(capture.Spool.Branches);
        return
        [
            .. tables.Select(name =>
                progress.Tables.FirstOrDefault(table => table.Table == name) is not { } table
                    ? throw new RequestRefusedException($"The crossing has no table {name}.") { Remedy = "Name tables of this crossing." }
                : !table.Held ? throw new RequestRefusedException($"{name} is not held.") { Remedy = "Name held tables of this crossing." }
                : !MayContinue(table, progress, capture?.Spool)
                    ? throw new RequestRefusedException($"{name} cannot continue: the changes since it was held are not kept.")
                    {
                        Remedy = "Load it again.",
                    }
                : table.Agreed()
            ),
        ];
    }
}
