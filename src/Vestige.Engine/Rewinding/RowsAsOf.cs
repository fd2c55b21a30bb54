using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Rewinding;

// Rows as they were at a position p in the past. There is no copy of that time, but there is the log since: a table is loaded as it is now,
// at P >= p, and what happened after p is taken back.
//
//  1. A table that was loaded as of P holds exactly what was committed at P or before (TableSync).
//  2. For each key the log between p and P says whether its row was there at p, and what it held: the first change of the key has the row
//     as it was before, or is an insert. A key that no change names is as it was.
//  3. So: every row that was changed or came after p goes, and then every row that was there at p and is one of those comes again. No other
//     order is as simple: between the two the table is a part of what it was at p, so that no unique value stands twice.
//  4. That is one transaction with the table's new position, p. What is interrupted begins again: a table is as of P or as of p.
//  5. It is refused where 2 does not hold: where the log has not the whole row before, where the table was truncated, or where its schema
//     changed between; and where the target's rows are not those that were loaded.
//
// All tables stand at p then, and the crossing is finished without a change being applied.

/// <summary>Takes tables that were loaded back to a position in the past.</summary>
internal sealed class RowsAsOf(WorkerContext context, ITargetSession session, Route route)
{
    private const long GroupBytes = 64 << 20;

    /// <summary>Takes back what happened after a position to every table that was loaded after it.</summary>
    public async Task BringAsync(LogPosition asOf, CancellationToken cancellation)
    {
        foreach (var table in session.Progress.Tables)
        {
            if (table is { Loaded: true, Held: false } && table.Position > asOf && context.Definition.Tables.Takes(table.Table))
            {
                await BringAsync(table, asOf, cancellation);
            }
        }
    }

    private async Task BringAsync(TableProgress table, LogPosition asOf, CancellationToken cancellation)
    {
        if (table.Position.Branch != asOf.Branch)
        {
            throw Impossible(table.Table, "the source has another log since");
        }

        await context.Capture.ReachAsync(table.Position, cancellation);
        var spool = context.Capture.Spool;
        var format = context.Source.Log.Format;
        var span = (await TableSpan.ReadAsync(spool, asOf, table.Position, [table.Table], format, cancellation))[table.Table];
        if (span.Problem is { } problem)
        {
            throw Impossible(table.Table, problem);
        }

        if (span.Form is { } form && table.Fingerprint is { } loaded && !SchemaFingerprint.IsOf(loaded, form))
        {
            throw Impossible(table.Table, "its rows were logged in another form than that in which it was loaded");
        }

        var (removed, restored) = (0L, 0L);
        await using var transaction = await session.BeginAsync(checkReferences: false, route, cancellation);
        if (span.Form is { } logged)
        {
            var groups = (int)(span.Bytes / GroupBytes) + 1;
            var net = new NetChanges(spool, logged, asOf, table.Position, groups);

            // What is one group is read once for both.
            var whole = groups == 1 ? await net.ReadAsync(0, cancellation) : null;
            async Task<FoldedTable> GroupAsync(int group) => (whole ?? await net.ReadAsync(group, cancellation)).Folded;
            removed = await TakeBackAsync(transaction, GroupAsync, groups, Removed, logged, cancellation);
            restored = await TakeBackAsync(transaction, GroupAsync, groups, Restored, logged, cancellation);
        }

        var back = table with { Position = asOf, Log = spool.Branches[asOf.Branch].Identity };
        await transaction.CommitAsync(new ProgressUpdate(null, [back]), cancellation);
        await context.Events.OfCrossingAsync(
            context.Crossing,
            EventKind.Note,
            $"{table.Table} is as of position {format(asOf)}: {Figures.Of(span.Changes, "change")} taken back, "
                + $"{Figures.Of(removed, "row")} removed, {Figures.Of(restored, "row")} restored."
        );
    }

    /// <summary>What is there and goes.</summary>
    private static RowChange? Removed(FoldedRow row) =>
        row.Kind == ChangeKind.Delete ? null : new RowChange(ChangeKind.Delete, 0, row.After, default);

    /// <summary>What was there and comes again.</summary>
    private static RowChange? Restored(FoldedRow row) =>
        row.Kind == ChangeKind.Insert ? null : new RowChange(ChangeKind.Insert, 0, default, row.Before);

    private async Task<long> TakeBackAsync(
        ITargetTransaction transaction,
        Func<int, Task<FoldedTable>> read,
        int groups,
        Func<FoldedRow, RowChange?> back,
        TableSchema form,
        CancellationToken cancellation
    )
    {
        var treatment = context.Treating.Build(form);
        var rows = 0L;
        for (var group = 0; group < groups; group++)
        {
            var folded = await read(group);
            var made = Treated(treatment, folded.Rows.Select(back).OfType<RowChange>());
            rows += made.Sum(table => (long)table.Rows.Count);
            var met = await transaction.ApplyAsync(made, cancellation);
            if (met.Values.Sum(counts => counts.Total) is > 0 and var wrong)
            {
                throw Impossible(form.Name, $"{Figures.Of(wrong, "row")} on the target {(wrong == 1 ? "is" : "are")} not as loaded");
            }
        }

        return rows;
    }

    private List<FoldedTable> Treated(TableTreatment treatment, IEnumerable<RowChange> changes)
    {
        var made = new List<TreatedChange>();
        foreach (var change in changes)
        {
            try
            {
                treatment.Treat(change, context.Clock.GetUtcNow(), made);
            }
            catch (EvaluationException exception)
            {
                throw ChangeRouter.Refused(treatment, change, exception);
            }
        }

        return
        [
            .. made.GroupBy(one => one.Table)
                .Select(group => new FoldedTable(group.Key.Schema, EmptiedFirst: false, [.. group.Select(one => Folded(one.Change))])),
        ];
    }

    private static FoldedRow Folded(RowChange change) => new(change.Kind, change.Before, change.After);

    private static PortException Impossible(TableName table, string why) =>
        new($"Vestige cannot determine the rows of {table} as of that position: {why}.")
        {
            Remedy = "Choose a later position, or leave the table out.",
        };
}
