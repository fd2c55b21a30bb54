using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Following;

/// <summary>
/// Writes the changes of a transaction of the source into one of the target, in log order: rows, and what is done to tables between them.
/// Not safe for several threads.
/// </summary>
internal sealed class TransactionWriter(WorkerContext context)
{
    private readonly Quarantine quarantine = context.Quarantine;
    private readonly CrossingMeter meter = context.Meter;
    private readonly ISchemaEditor? editor = context.Target.Find<ISchemaEditor>();

    /// <summary>What was done to tables in the transaction at hand, told when it is committed.</summary>
    private readonly List<string> changed = [];

    /// <summary>Another transaction of the target begins; what an earlier one did that was not committed is forgotten.</summary>
    public void Begin() => changed.Clear();

    /// <summary>What is passed over is kept first: should the commit not happen, the position tells that it does not count.</summary>
    public async Task CommitAsync(
        ITargetTransaction transaction,
        ProgressUpdate update,
        AsideChanges aside,
        CancellationToken cancellation
    )
    {
        await quarantine.KeepAsync(aside, cancellation);
        await transaction.CommitAsync(update, cancellation);
        await quarantine.CommittedAsync(cancellation);
        foreach (var what in changed)
        {
            await context.Events.OfCrossingAsync(context.Crossing, EventKind.Note, what);
        }

        changed.Clear();
    }

    public async Task ApplyUnfoldedAsync(
        ITargetTransaction transaction,
        ChangeRouter router,
        SpooledFragment fragment,
        ChangeTally tally,
        CancellationToken cancellation
    )
    {
        var changes = new ChangeReader(fragment.Changes);
        var routed = new List<RoutedChange>();
        while (changes.TryRead(out var change))
        {
            routed.Clear();
            router.Route(fragment, change, routed);
            await EditTablesAsync(transaction, router.TakeEdits(), cancellation);
            await ApplyRoutedAsync(transaction, router, routed, fragment, tally, cancellation);
        }

        routed.Clear();
        router.End(fragment, routed);
        await ApplyRoutedAsync(transaction, router, routed, fragment, tally, cancellation);
    }

    /// <summary>Throws <see cref="SchemaChangeRefusedException"/> where the target does not do it and waiting does not help.</summary>
    public async Task EditTablesAsync(ITargetTransaction transaction, IReadOnlyList<CarriedEdit> edits, CancellationToken cancellation)
    {
        foreach (var (source, edit) in edits)
        {
            try
            {
                await editor!.EditAsync(transaction, edit, cancellation);
                changed.Add($"{edit.After.Name} was changed as at the source: {string.Join("; ", editor.StatementsFor(edit))}.");
            }
            catch (PortException exception) when (!exception.Transient)
            {
                var what = string.Join("; ", edit.Changes.Select(change => change.Words));
                throw new SchemaChangeRefusedException(
                    $"The table was changed at the source, and {edit.After.Name} could not be: {what}. {exception.Message.TrimEnd('.')}.",
                    exception
                )
                {
                    Table = source,
                };
            }
        }
    }

    private async Task ApplyRoutedAsync(
        ITargetTransaction transaction,
        ChangeRouter router,
        List<RoutedChange> routed,
        SpooledFragment fragment,
        ChangeTally tally,
        CancellationToken cancellation
    )
    {
        foreach (var one in routed)
        {
            await ApplyAsync(transaction, router, one, cancellation);
            tally.Add(one, fragment);
        }
    }

    /// <summary>Applies one change as it came.</summary>
    public async Task ApplyAsync(ITargetTransaction transaction, ChangeRouter router, RoutedChange one, CancellationToken cancellation) =>
        Unexpected(one.Schema.Name, await ApplyAsync(transaction, one, cancellation), router.Owners);

    /// <summary>A refused row is told by the source's table, by which people find it.</summary>
    private static async Task<ApplyCounts> ApplyAsync(ITargetTransaction transaction, RoutedChange routed, CancellationToken cancellation)
    {
        try
        {
            return await transaction.ApplyAsync(routed.Schema, routed.Change, cancellation);
        }
        catch (RowRefusedException exception) when (exception.Table == routed.Schema.Name && routed.Schema.Name != routed.Source)
        {
            throw exception.Of(routed.Source);
        }
    }

    public void Unexpected(IReadOnlyDictionary<TableName, ApplyCounts> unexpected, ImmutableDictionary<TableName, TableOwner> owners)
    {
        foreach (var (table, counts) in unexpected)
        {
            Unexpected(table, counts, owners);
        }
    }

    private void Unexpected(TableName table, ApplyCounts counts, ImmutableDictionary<TableName, TableOwner> owners)
    {
        if (counts.Total > 0 && owners[table] is { MeetsExpectations: true } owner)
        {
            meter.Unexpected(owner.Source, counts);
        }
    }
}
