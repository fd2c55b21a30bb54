using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Gives crossings that were started another definition.</summary>
internal sealed class CrossingEditor(
    EngineServices services,
    CrossingRegistry registry,
    CrossingOpener opener,
    CrossingPacing pacing,
    Func<CrossingDefinition, CancellationToken, Task<CrossingPlan>> plan,
    Func<CrossingDefinition, CrossingTreatment> treat
)
{
    private readonly IConnections connections = services.Connections;
    private readonly IControlStore store = services.Stores.Control;
    private readonly EventLog events = services.Events;
    private readonly TimeProvider clock = services.Clock;

    /// <summary>
    /// What another definition would mean. Reads only. Throws <see cref="RequestRefusedException"/> where it would be another crossing.
    /// </summary>
    public async Task<DefinitionChange> CompareAsync(CrossingDefinition definition, CancellationToken cancellation)
    {
        var entry = registry.Existing(definition.Name);
        var before = entry.Stored.Definition;
        if (entry.Stored.Desired == DesiredState.Finish)
        {
            throw new RequestRefusedException($"{definition.Name} is finished.") { Remedy = "Make another crossing." };
        }

        if (
            definition.Source != before.Source
            || definition.Target != before.Target
            || definition.Purpose != before.Purpose
            || definition.Kind != before.Kind
        )
        {
            throw new RequestRefusedException(
                $"{definition.Name} was started between {before.Source} and {before.Target}; that, its purpose and what it carries "
                    + "cannot be changed."
            )
            {
                Remedy = "Make another crossing.",
            };
        }

        var planned = await plan(definition, cancellation);
        var progress = await connections.Target(definition.Target).Progress.ReadProgressAsync(definition.Name, cancellation);
        var (old, wanted) = (treat(before), treat(definition));
        var had = progress.Tables.Select(table => table.Table).Where(before.Tables.Takes).ToHashSet();
        var has = planned.Tables.Select(table => table.Source).ToHashSet();
        if (definition.Kind == StartKind.Changes && has.Except(had).Order().ToList() is { Count: > 0 } added)
        {
            throw new RequestRefusedException(
                $"{definition.Name} carries changes only, and whether {added[0]} agrees with the source is checked only at a start."
            )
            {
                Remedy = "Make another crossing for the tables that come.",
            };
        }

        List<TableName> again = [.. has.Intersect(had).Where(table => old.PrintOf(table) != wanted.PrintOf(table)).Order()];
        var goOn = CrossingReload.OthersGoOn(definition, progress, connections.Target(definition.Target));
        return new DefinitionChange(
            [.. has.Except(had).Order()],
            [.. had.Except(has).Order()],
            again,
            planned.Checks,
            planned.Problems
        )
        {
            OthersGoOn = goOn,
            Replaced = [.. again.Where(table => goOn && wanted.IsReplaceable(table))],
            Statements = StatementsOf(planned, [.. has.Except(had)]),
        };
    }

    /// <summary>What makes the tables that come on the target.</summary>
    private static List<string> StatementsOf(CrossingPlan planned, HashSet<TableName> added)
    {
        var into = planned.Tables.Where(table => added.Contains(table.Source)).SelectMany(table => table.Into).ToHashSet();
        return [.. planned.Statements.Where(one => one.Makes is { } made && into.Contains(made)).Select(one => one.Text)];
    }

    /// <summary>
    /// Tables that come, or that are treated otherwise, are loaded. Throws <see cref="NotReadyException"/> with
    /// every check when that cannot be done. Whatever fails later, the crossing continues as it was.
    /// </summary>
    public async Task ChangeAsync(
        CrossingDefinition definition,
        string by,
        string? typed,
        CancellationToken cancellation,
        Func<CancellationToken, Task>? verify = null
    )
    {
        using var locked = await registry.EnterAsync(definition.Name, cancellation);
        var entry = locked.Entry;
        await (verify?.Invoke(cancellation) ?? Task.CompletedTask);
        var change = await CompareAsync(definition, cancellation);
        if (!change.Ready)
        {
            throw new NotReadyException(change.Checks);
        }

        LossRefusedException.ThrowUnlessAgreed(definition.Name, change.Checks, typed);
        ThrowIfMerged(definition, change.Reloaded);

        if (!change.Restarts && !IsReadAtStart(entry.Stored.Definition, definition))
        {
            await KeepAsync(entry, definition, by, cancellation);
            await pacing.BringInForceAsync(entry, cancellation);
            return;
        }

        var atWork = entry.Worker is { Running.IsCompleted: false };
        await entry.HaltAsync(new StopRequest(StopMode.Transaction));
        try
        {
            // Marked before the definition is kept: whatever happens between, no table continues under another treatment than that
            // of its rows. What leaves is given up only after.
            await SaveProgressAsync(
                definition,
                progress =>
                    [
                        .. progress.Tables.Where(table => change.Reloaded.Contains(table.Table)).Select(table => table.Anew()),
                        .. change.Added.Select(Bare),
                    ],
                cancellation
            );
            await KeepAsync(entry, definition, by, cancellation);
            await SaveProgressAsync(definition, _ => [.. change.Removed.Select(Bare)], cancellation);
            await entry.Quarantine.DropAsync([.. change.Removed], cancellation);
            await entry.Verdicts.ForgetAsync([.. change.Removed], cancellation);
        }
        finally
        {
            // What was at work continues at once; a schedule that is new begins with this run.
            await opener.OpenAsync(entry, cancellation, beginRun: atWork);
        }
    }

    /// <summary>
    /// Throws where tables would be loaded again whose rows were merged with those of others: what the source has deleted
    /// meanwhile cannot be told from them.
    /// </summary>
    internal static void ThrowIfMerged(CrossingDefinition definition, IReadOnlyList<TableName> tables)
    {
        if (tables.FirstOrDefault(table => definition.ExistingFor(table) == ExistingRows.Merge) is { Name: not null } merged)
        {
            throw new RequestRefusedException(
                $"Rows of {merged} were merged with others on the target, and what the source has deleted meanwhile cannot be told "
                    + "from those."
            )
            {
                Remedy = "Say in the definition that existing rows of it are deleted first, and load it again.",
            };
        }
    }

    /// <summary>Whether the worker has to restart, since it reads what changed only at its start.</summary>
    private static bool IsReadAtStart(CrossingDefinition before, CrossingDefinition after) =>
        !(before.SchemaChanges ?? []).SequenceEqual(after.SchemaChanges ?? []);

    /// <summary>A table that has nothing of its own on the target.</summary>
    internal static TableProgress Bare(TableName table) => new(table, Loaded: false, LogPosition.Zero, Into: "", Settled: false);

    private async Task SaveProgressAsync(
        CrossingDefinition definition,
        Func<TargetProgress, IReadOnlyList<TableProgress>> marks,
        CancellationToken cancellation
    )
    {
        var target = connections.Target(definition.Target);
        await using var session = await target.Progress.OpenProgressAsync(
            definition.Name,
            await store.NextTermAsync(definition.Name, 0, cancellation),
            cancellation
        );
        await session.SaveAsync(new ProgressUpdate(null, marks(session.Progress)), cancellation);
    }

    /// <summary>Stores another definition of a crossing that is at rest, and tells of it.</summary>
    internal async Task KeepAsync(CrossingEntry entry, CrossingDefinition definition, string by, CancellationToken cancellation)
    {
        var stored = CrossingPacing.Under(entry.Stored, definition) with { By = by, Since = clock.GetUtcNow() };
        await store.SaveAsync(stored, cancellation);
        entry.Stored = stored;
        await events.OfCrossingAsync(definition.Name, EventKind.Note, "Definition changed.", by);
    }
}
