using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Following;

/// <summary>
/// Writes batches to the target, rows and position in one transaction. When the target refuses a row of a folded batch,
/// the batch is rolled back and applied again transaction by transaction, unfolded, so that everything before the refused
/// row arrives and the row is named exactly.
/// </summary>
internal sealed class BatchApplier(ITargetSession session, Spool spool, CrossingTreatment treating, CrossingMeter meter, TimeProvider clock)
{
    /// <summary>Applies a batch; one that could not be folded transaction by transaction.</summary>
    public async Task ApplyAsync(Batch batch, CancellationToken cancellation)
    {
        if (batch.Folded is null)
        {
            await ApplyOneByOneAsync(batch, cancellation);
            return;
        }

        try
        {
            await using var transaction = await session.BeginAsync(OneStream(batch.TablesAfter), cancellation);
            var unexpected = await transaction.ApplyAsync(batch.Folded, cancellation);
            await transaction.CommitAsync(new ProgressUpdate(batch.Last, batch.Held), cancellation);
            Report(batch.Fragments, batch.Tallies, batch.Treating);
            Unexpected(unexpected, batch.Owners);
        }
        catch (RowRefusedException) when (batch.Fragments.Count > 0)
        {
            await ApplyOneByOneAsync(batch, cancellation);
        }
    }

    /// <summary>Applies a large transaction part by part, in log order, in one transaction of the target.</summary>
    public async Task ApplyLargeAsync(Batch head, BatchGatherer gatherer, ChangeRouter router, CancellationToken cancellation)
    {
        await using var transaction = await session.BeginAsync(OneStream(router.Tables), cancellation);
        var tally = new ChangeTally();
        SpooledFragment? last = null;
        var changes = 0L;
        await foreach (var part in gatherer.PartsAsync(cancellation))
        {
            await ApplyUnfoldedAsync(transaction, router, part, tally, cancellation);
            changes += part.Count;
            last = part with { Changes = default, Count = 0 };
        }

        var after = head with { TablesAfter = router.Tables };
        await transaction.CommitAsync(new ProgressUpdate(last!.Position, after.Held), cancellation);
        Report([last with { Count = (int)Math.Min(int.MaxValue, changes) }], tally, TimeSpan.Zero);
    }

    /// <summary>
    /// Whether all tables stand at the position of the stream, so that references between them hold. Where only inserts come,
    /// rows stay whose parents have gone.
    /// </summary>
    private bool OneStream(ImmutableDictionary<TableName, TableProgress> tables)
    {
        foreach (var table in tables.Values)
        {
            if (table.Held || table.Position > session.Progress.Position || treating.Definition.AppliedAs(table.Table) == ApplyMode.InsertOnly)
            {
                return false;
            }
        }

        return true;
    }

    private async Task ApplyOneByOneAsync(Batch batch, CancellationToken cancellation)
    {
        var router = new ChangeRouter(spool, treating, batch.TablesBefore);
        foreach (var fragment in batch.Fragments)
        {
            var before = router.Tables;
            var tally = new ChangeTally();
            await using var transaction = await session.BeginAsync(OneStream(router.Tables), cancellation);
            await ApplyUnfoldedAsync(transaction, router, fragment, tally, cancellation);
            var held = before == router.Tables ? [] : router.Tables.Values.Where(table => before[table.Table] != table).ToList();
            await transaction.CommitAsync(new ProgressUpdate(fragment.Position, held), cancellation);
            Report([fragment], tally, TimeSpan.Zero);
        }
    }

    private async Task ApplyUnfoldedAsync(ITargetTransaction transaction, ChangeRouter router, SpooledFragment fragment, ChangeTally tally, CancellationToken cancellation)
    {
        var changes = new ChangeReader(fragment.Changes);
        var routed = new List<RoutedChange>();
        while (changes.TryRead(out var change))
        {
            routed.Clear();
            router.Route(fragment, change, routed);
            await ApplyRoutedAsync(transaction, router, routed, fragment, tally, cancellation);
        }

        routed.Clear();
        router.End(fragment, routed);
        await ApplyRoutedAsync(transaction, router, routed, fragment, tally, cancellation);
    }

    private async Task ApplyRoutedAsync(ITargetTransaction transaction, ChangeRouter router, List<RoutedChange> routed, SpooledFragment fragment, ChangeTally tally, CancellationToken cancellation)
    {
        foreach (var one in routed)
        {
            Unexpected(one.Form.Name, await ApplyAsync(transaction, one, cancellation), router.Owners);
            tally.Add(one, fragment);
        }
    }

    /// <summary>A refused row is told by the source's table, by which people find it.</summary>
    private static async Task<ApplyCounts> ApplyAsync(ITargetTransaction transaction, RoutedChange routed, CancellationToken cancellation)
    {
        try
        {
            return await transaction.ApplyAsync(routed.Form, routed.Change, cancellation);
        }
        catch (RowRefusedException exception) when (exception.Table == routed.Form.Name && routed.Form.Name != routed.Source)
        {
            throw new RowRefusedException(exception.Message, exception)
            {
                Table = routed.Source,
                Kind = exception.Kind,
                Key = exception.Key,
                Answer = exception.Answer,
                Mend = exception.Mend,
            };
        }
    }

    private void Unexpected(IReadOnlyDictionary<TableName, ApplyCounts> unexpected, ImmutableDictionary<TableName, TableOwner> owners)
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

    private void Report(IReadOnlyList<SpooledFragment> fragments, ChangeTally tally, TimeSpan treating)
    {
        var now = clock.GetUtcNow();
        var delays = new List<HopDelays>(fragments.Count);
        foreach (var fragment in fragments)
        {
            if (fragment.Count > 0)
            {
                var spooled = spool.SyncedAt(fragment.Position) ?? fragment.CapturedAt;
                delays.Add(HopDelays.Between(fragment.CommittedAt, fragment.CapturedAt, spooled, treating, now));
            }
        }

        meter.Committed(new BatchReport(fragments.Sum(fragment => (long)fragment.Count), tally.Tallies, tally.Recent(now), delays), now);
    }
}
