using Vestige.Core.Changes;
using Vestige.Core.Reconciling;
using Vestige.Core.Treatments;
using Vestige.Engine.Capturing;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Backfilling;

/// <summary>
/// Writes the rows of a range as the source has them, part by part: each is read on both sides, and the crossing's worker writes what
/// differs at its own position, as it repairs rows. So the crossing follows meanwhile, and nothing newer is overwritten.
/// </summary>
internal sealed class BackfillRun(CrossingEntry entry, ViewRequest asked, CrossingTreatment treating, RepairService repairs)
{
    private const int RowsAtOnce = 4000;
    private const int MostParts = 100_000;

    /// <summary>Does it to the end, and tells after each part how far it is.</summary>
    public async Task RunAsync(
        Backfill wanted,
        IReadOnlyList<KeySpan> spans,
        Action<BackfillProgress> tell,
        CancellationToken cancellation
    )
    {
        var progress = wanted.Progress with { Of = spans.Count };
        tell(progress);
        foreach (var span in spans)
        {
            var holder = $"backfill/{wanted.Crossing}";
            asked.Spool.Retain(holder, asked.Applied());
            try
            {
                progress = await PartAsync(wanted, span, progress, cancellation);
            }
            finally
            {
                asked.Spool.Release(holder);
            }

            tell(progress);
        }
    }

    /// <summary>The parts. Throws <see cref="RequestRefusedException"/> where rows of a table cannot be written one by one.</summary>
    public async Task<IReadOnlyList<KeySpan>> CutAsync(Backfill wanted, CancellationToken cancellation)
    {
        await using var view = await BranchReads.ViewAsync(asked.Source, asked.Spool, cancellation);
        var (treatment, tables, rows) = await FindAsync(wanted, view, cancellation);
        var within = WithinOf(wanted, treatment);
        ThrowIfImpossible(wanted, treatment, tables);
        var parts = (int)Math.Clamp(rows / RowsAtOnce, 1, MostParts);
        var bounds = await view.CutAsync(treatment.Source, within, parts, cancellation);
        return
        [
            .. Enumerable
                .Range(0, bounds.Count + 1)
                .Select(i => new KeySpan(i == 0 ? within.From : bounds[i - 1], i == bounds.Count ? within.Before : bounds[i])),
        ];
    }

    private async Task<(TableTreatment Treatment, IReadOnlyList<ComparedTable> Tables, long Rows)> FindAsync(
        Backfill wanted,
        IRowsView view,
        CancellationToken cancellation
    )
    {
        var found =
            (await view.ReadTablesAsync(cancellation)).FirstOrDefault(table => table.Schema.Name == wanted.Table)
            ?? throw new RequestRefusedException($"The source has no table {wanted.Table} now.") { Remedy = "Look at the source." };
        var known = entry.Progress.Tables.FirstOrDefault(table => table.Table == wanted.Table);
        var treatment = CopiedColumns.ForWriting(CopiedColumns.Of(treating, asked.Spool, known, found.Schema), found.Schema);
        return (treatment, ComparedTable.Of(treatment, asked.Source.Catalogue.Types, asked.Target.Catalogue.Types), found.EstimatedRows);
    }

    private static KeySpan WithinOf(Backfill wanted, TableTreatment treatment)
    {
        var columns = treatment.Source.KeyOrdinals.Count;
        return new KeySpan(KeyOf(wanted.From), KeyOf(wanted.Before));

        Row KeyOf(string? text) =>
            text is null ? default
            : IntegerKeys.Parse(text, columns) is { IsNone: false } key ? key
            : throw new RequestRefusedException($"'{text}' is no key of {wanted.Table}.")
            {
                Remedy = $"Give {(columns == 1 ? "a whole number" : $"{columns} whole numbers divided by commas")}.",
            };
    }

    private static void ThrowIfImpossible(Backfill wanted, TableTreatment treatment, IReadOnlyList<ComparedTable> tables)
    {
        var why =
            ComparedTable.Incomparable(treatment)
            ?? (treatment.Children.Count > 0 ? "it has child rows" : null)
            ?? (tables.All(table => table is { KeyPasses: true, ByRange: true }) ? null : "its key is not made of whole numbers");
        if (why is not null)
        {
            throw new RequestRefusedException($"Rows of {wanted.Table} cannot be written one by one: {why}.")
            {
                Remedy = "Reload the table.",
            };
        }

        if (wanted.Columns.FirstOrDefault(name => treatment.Columns.All(column => column.Name != name)) is { } unknown)
        {
            throw new RequestRefusedException($"{tables[0].Name} has no column {unknown}.") { Remedy = "Name columns of the target." };
        }
    }

    private async Task<BackfillProgress> PartAsync(
        Backfill wanted,
        KeySpan span,
        BackfillProgress progress,
        CancellationToken cancellation
    )
    {
        await using var view = await BranchReads.ViewAsync(asked.Source, asked.Spool, cancellation);
        var (treatment, tables, _) = await FindAsync(wanted, view, cancellation);
        ThrowIfImpossible(wanted, treatment, tables);
        var rows = new List<RowToRepair>();
        var keys = await KeysAsync(view, new RowShape(treatment.Source, [], treatment.Source.KeyOrdinals), span, cancellation);
        await using (var target = await asked.Target.Views.OpenViewAsync(wanted.Crossing, cancellation))
        {
            foreach (var table in tables)
            {
                var there = wanted.DeletesExtra ? await KeysAsync(target, table.Target, Of(table, span), cancellation) : [];
                rows.AddRange(
                    keys.Select(table.TargetKeyOf)
                        .Concat(there)
                        .DistinctBy(RowKey.Of)
                        .Select(key => new RowToRepair(wanted.Table, table.Name, key))
                );
            }
        }

        var done = rows.Count == 0 ? [] : await repairs.WriteAsync(entry, OrderOf(view, rows, wanted), cancellation);
        return progress with
        {
            Done = progress.Done + 1,
            Rows = progress.Rows + done.Count,
            Written = progress.Written + done.Count(row => row.Note is null),
            LeftAlone = progress.LeftAlone + done.Count(row => row.Note == RepairRun.Quarantined),
        };
    }

    /// <summary>The same keys as the target has them.</summary>
    private static KeySpan Of(ComparedTable table, KeySpan span) =>
        new(
            span.From.IsNone ? default : table.TargetKeyOf(span.From),
            span.Before.IsNone ? default : table.TargetKeyOf(span.Before)
        );

    private static RepairOrder OrderOf(IRowsView view, IReadOnlyList<RowToRepair> rows, Backfill wanted) =>
        new(view, rows, Undo: false) { Columns = wanted.Columns.Count == 0 ? null : wanted.Columns.ToHashSet() };

    private static async Task<List<Row>> KeysAsync(IRowsView view, RowShape shape, KeySpan span, CancellationToken cancellation)
    {
        var keys = new List<Row>();
        await foreach (var row in StreamedRows.RowsAsync(view, shape, span, cancellation))
        {
            keys.Add(shape.KeyOf(row));
        }

        return keys;
    }
}
