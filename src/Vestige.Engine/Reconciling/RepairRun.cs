using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Reconciling;

/// <summary>
/// Repairs rows of the target between two batches, by the worker that alone writes there: so the target stands at one position, and
/// each row is written as the source had it at exactly that position. What is newer comes after it, as always.
/// </summary>
internal sealed class RepairRun(
    CrossingTreatment treating,
    SourceSystem source,
    TargetSystem target,
    Spool spool,
    Quarantine quarantine,
    RepairQueue queue
)
{
    /// <summary>Why a row with a change in quarantine is left as it is.</summary>
    public const string Quarantined = "changes of it wait in quarantine, to be decided there";

    /// <summary>Does what is asked and can be done where the target stands now.</summary>
    public async Task RunAsync(ITargetSession session, CancellationToken cancellation)
    {
        while (session.Progress.Position is { } position && queue.Take(position) is { } order)
        {
            try
            {
                order.End(position, await RepairAsync(session, order, position, cancellation));
            }
            catch (Exception exception)
            {
                order.Fail(exception);
                if (exception is not (RowRefusedException or RequestRefusedException))
                {
                    throw;
                }
            }
        }
    }

    private async Task<IReadOnlyList<RepairedRow>> RepairAsync(
        ITargetSession session,
        RepairOrder order,
        LogPosition position,
        CancellationToken cancellation
    )
    {
        var done = new List<RepairedRow>();
        var changes = new List<(TableSchema Schema, RowChange Change)>();
        var there = (await order.View.ReadTablesAsync(cancellation)).ToDictionary(table => table.Schema.Name, table => table.Schema);
        var names = order.Rows.Select(row => row.Source).Distinct().ToList();
        ThrowIfApart(session.Progress, names, position);
        var forms = names.ToDictionary(
            name => name,
            name =>
                there.TryGetValue(name, out var form) ? form : throw new RequestRefusedException($"{name} is not at the source any more.")
        );
        if (order.From < spool.Begin)
        {
            throw new RequestRefusedException("The log since the source was looked at is not in the spool any more.")
            {
                Remedy = "Try again.",
            };
        }

        var histories = await LogBetween.ReadAsync(spool, order.From, position, forms, cancellation);
        await using var found = await target.Views.OpenViewAsync(treating.Definition.Name, cancellation);
        foreach (var rows in order.Rows.GroupBy(row => (row.Source, row.Into)))
        {
            var treatment = TreatmentOf(session.Progress, forms[rows.Key.Source]);
            var table = ComparedTable
                .Of(treatment, source.Catalogue.Types, target.Catalogue.Types)
                .FirstOrDefault(one => one.Name == rows.Key.Into);
            if (
                table is not { KeyPasses: true }
                || histories[rows.Key.Source].Broken is not null
                || histories[rows.Key.Source].Changes > LogBetween.MostChanges
            )
            {
                throw new RequestRefusedException(
                    $"Single rows of {rows.Key.Into} cannot be repaired: "
                        + $"{histories[rows.Key.Source].Broken ?? "its rows have no key that they share with the source's"}."
                )
                {
                    Remedy = "Load the table again.",
                };
            }

            await PlanAsync(order, treatment, table, histories[rows.Key.Source], [.. rows], found, done, changes, cancellation);
        }

        if (changes.Count > 0)
        {
            await using var transaction = await session.BeginAsync(checkReferences: false, cancellation);
            foreach (var (form, change) in changes)
            {
                await transaction.ApplyAsync(form, change, cancellation);
            }

            await transaction.CommitAsync(ProgressUpdate.None, cancellation);
        }

        return done;
    }

    private TableTreatment TreatmentOf(TargetProgress progress, TableSchema form)
    {
        var known = progress.Tables.FirstOrDefault(table => table.Table == form.Name);
        return CopiedColumns.ForWriting(CopiedColumns.Of(treating, spool, known, form), form);
    }

    /// <summary>A table that is not where the stream is does not hold the rows of that position.</summary>
    private static void ThrowIfApart(TargetProgress progress, List<TableName> names, LogPosition position)
    {
        foreach (var table in progress.Tables.Where(table => names.Contains(table.Table)))
        {
            if (table.Held || !table.IsInStream || table.Position > position)
            {
                throw new RequestRefusedException(
                    $"{table.Table} {(table.Held ? "is held" : "has not caught up with the other tables")}: its rows cannot be repaired."
                )
                {
                    Remedy = table.Held ? "See to what holds it first." : "Try again when it follows.",
                };
            }
        }
    }

    private async Task PlanAsync(
        RepairOrder order,
        TableTreatment treatment,
        ComparedTable table,
        TableHistory history,
        List<RowToRepair> rows,
        IRowsView found,
        List<RepairedRow> done,
        List<(TableSchema, RowChange)> changes,
        CancellationToken cancellation
    )
    {
        var keys = rows.Select(row => row.Key).ToList();
        var there = ByKey(table, await found.FindAsync(table.Target.Table, keys, cancellation));
        var expected = order.Undo ? [] : await ExpectedAsync(order.View, treatment, table, history, keys, cancellation);
        foreach (var row in rows)
        {
            var before = there.GetValueOrDefault(RowKey.Of(row.Key));
            var after = order.Undo ? row.Kept : Wanted(order, table, before, expected.GetValueOrDefault(RowKey.Of(row.Key)));
            var note = NoteOf(order, table, row, before, after);
            var change = ChangeOf(before, after);
            done.Add(
                new RepairedRow(
                    row.Source,
                    row.Into,
                    row.Key,
                    before,
                    note is null ? after : before,
                    note is null ? target.Tables.StatementFor(table.Target.Table, change) : "",
                    note
                )
            );
            if (note is null)
            {
                changes.Add((table.Target.Table, change));
            }
        }
    }

    /// <summary>The row that is there with the columns that are asked for as they are to be; all of it, where all are.</summary>
    private static Row Wanted(RepairOrder order, ComparedTable table, Row before, Row expected)
    {
        if (order.Columns is not { } columns || before.IsNone || expected.IsNone)
        {
            return expected;
        }

        var writer = new RowWriter();
        writer.Begin(before.Count);
        for (var i = 0; i < before.Count; i++)
        {
            var row = columns.Contains(table.Target.Table.Columns[i].Name) ? expected : before;
            writer.Value(row.KindAt(i), row.ValueAt(i));
        }

        return writer.ToRow();
    }

    /// <summary>Why a row is left as it is; null when it is written.</summary>
    private string? NoteOf(RepairOrder order, ComparedTable table, RowToRepair row, Row before, Row after)
    {
        if (quarantine.Blocks(row.Source, [RowKey.Of(table.SourceKeyOf(row.Key))]))
        {
            return Quarantined;
        }

        return order.Undo && !Same(table, before, row.Left) ? "it changed since, and stays"
            : Same(table, before, after) ? "it is as it should be"
            : null;
    }

    private static bool Same(ComparedTable table, Row one, Row other) =>
        one.IsNone || other.IsNone ? one.IsNone == other.IsNone : !table.DifferingColumns(one, other).Any();

    /// <summary>The rows as they had to be where the target stands: those of the view, and what changed since.</summary>
    private static async Task<Dictionary<RowKey, Row>> ExpectedAsync(
        IRowsView view,
        TableTreatment treatment,
        ComparedTable table,
        TableHistory history,
        List<Row> keys,
        CancellationToken cancellation
    )
    {
        var asked = keys.Select(table.SourceKeyOf).Concat(history.Keys).DistinctBy(RowKey.Of).ToList();
        var rows = await view.FindAsync(treatment.Source, asked, cancellation);
        var now = rows.ToDictionary(row => RowKey.Of(row, treatment.Source.KeyOrdinals));
        foreach (var touched in history.After(rows))
        {
            now[RowKey.Of(touched.Key)] = touched.Known
                ? touched.Expected
                : throw new RequestRefusedException("A row changed just now, and how it is the log does not tell whole.")
                {
                    Remedy = "Try again in a moment.",
                };
        }

        var (expected, made) = (new Dictionary<RowKey, Row>(), new List<TreatedChange>());
        foreach (var row in now.Values.Where(row => !row.IsNone))
        {
            treatment.Load(row, made);
        }

        foreach (var (treated, change) in made.Where(one => ReferenceEquals(one.Table, table.Treated)))
        {
            expected[RowKey.Of(change.After, table.Target.Key)] = change.After;
        }

        return expected;
    }

    private static RowChange ChangeOf(Row before, Row after) =>
        (before.IsNone, after.IsNone) switch
        {
            (true, _) => new RowChange(ChangeKind.Insert, 0, default, after),
            (_, true) => new RowChange(ChangeKind.Delete, 0, before, default),
            _ => new RowChange(ChangeKind.Update, 0, before, after),
        };

    private static Dictionary<RowKey, Row> ByKey(ComparedTable table, IReadOnlyList<Row> rows)
    {
        var by = new Dictionary<RowKey, Row>();
        foreach (var row in rows)
        {
            by[RowKey.Of(row, table.Target.Key)] = row;
        }

        return by;
    }
}
