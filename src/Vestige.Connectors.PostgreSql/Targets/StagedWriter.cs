using System.Buffers;
using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// Copies the rows of a batch into staging tables, sorted by key, and merges each with one statement for deletes, one for
/// inserts and one for each set of columns that updates carry.
/// </summary>
internal sealed class StagedWriter(PostgreSqlTargetTransaction transaction) : IBatchWriter
{
    private const int Delete = 0;
    private const int Insert = 1;
    private const int FirstUpdate = 2;

    public async Task<IReadOnlyDictionary<TableName, ApplyCounts>> WriteAsync(
        IReadOnlyList<FoldedTable> tables,
        CancellationToken cancellation
    )
    {
        var staged = new List<Staged>();
        foreach (var folded in tables.Where(folded => folded.Rows.Count > 0))
        {
            staged.Add(await StageAsync(folded, cancellation));
        }

        var counts = new Dictionary<TableName, ApplyCounts>();
        foreach (var table in Enumerable.Reverse(staged).Where(table => table.Deletes > 0))
        {
            var touched = await transaction.RunAsync(
                table.Statements.DeleteStaged(table.Staging, Delete),
                "Deleting",
                cancellation,
                table.Schema
            );
            Count(counts, table, new ApplyCounts(0, table.Deletes - touched));
        }

        foreach (var table in staged)
        {
            await UpdateAsync(table, counts, cancellation);
        }

        foreach (var table in staged.Where(table => table.Inserts > 0))
        {
            await InsertAsync(table, counts, cancellation);
        }

        return counts;
    }

    private static void Count(Dictionary<TableName, ApplyCounts> counts, Staged table, ApplyCounts met)
    {
        if (met.Total > 0)
        {
            counts[table.Schema.Name] = counts.GetValueOrDefault(table.Schema.Name) + met;
        }
    }

    private static string MaskOf(Row row)
    {
        if (!row.HasAbsent)
        {
            return "";
        }

        return string.Create(row.Count, row, (mask, from) =>
        {
            for (var i = 0; i < mask.Length; i++)
            {
                mask[i] = from.KindAt(i) == ValueKind.Absent ? '-' : '+';
            }
        });
    }

    private async Task<Staged> StageAsync(FoldedTable folded, CancellationToken cancellation)
    {
        var form = folded.Table;
        var staging = await transaction.Stagings.EmptyForAsync(form, cancellation);
        var table = new Staged(form, staging.Name, transaction.Of(form));
        var rows = new ArrayBufferWriter<byte>(1 << 20);
        var sorted = folded
            .Rows.Select(row => (Row: row, Key: RowKey.Of(row.Kind == ChangeKind.Delete ? row.Before : row.After, form.KeyOrdinals)))
            .ToArray();
        Array.Sort(sorted, (left, right) => left.Key.Bytes.SequenceCompareTo(right.Key.Bytes));
        foreach (var (row, _) in sorted)
        {
            CopyText.Write(rows, table.Take(row), row.Kind == ChangeKind.Delete ? row.Before : row.After);
        }

        await transaction.CopyAsync(form, staging.Copy, rows.WrittenMemory, cancellation);
        return table;
    }

    private async Task UpdateAsync(Staged table, Dictionary<TableName, ApplyCounts> counts, CancellationToken cancellation)
    {
        foreach (var (mask, what, rows) in table.Masks)
        {
            var set = table.Statements.Others.Where(i => mask.Length == 0 || mask[i] == '+').ToList();
            if (set.Count == 0)
            {
                continue;
            }

            var touched = await transaction.RunAsync(
                table.Statements.UpdateStaged(table.Staging, what, set),
                "Updating",
                cancellation,
                table.Schema
            );
            if (touched < rows)
            {
                if (mask.Length > 0)
                {
                    throw new Engine.Faults.RowRefusedException(
                        $"{rows - touched} rows of {table.Schema.Name} are not on the target, and the log does not carry all of them."
                    )
                    {
                        Table = table.Schema.Name,
                        Kind = ChangeKind.Update,
                        Answer = "the row is not there",
                        Remedy = "Load the table again.",
                    };
                }

                await transaction.RunAsync(table.Statements.InsertStaged(table.Staging, what), "Inserting", cancellation, table.Schema);
                Count(counts, table, new ApplyCounts(0, rows - touched));
            }
        }
    }

    private async Task InsertAsync(Staged table, Dictionary<TableName, ApplyCounts> counts, CancellationToken cancellation)
    {
        var touched = await transaction.RunAsync(
            table.Statements.InsertStaged(table.Staging, Insert),
            "Inserting",
            cancellation,
            table.Schema
        );
        if (touched < table.Inserts)
        {
            if (table.Statements.Others.Count > 0)
            {
                await transaction.RunAsync(
                    table.Statements.UpdateStaged(table.Staging, Insert, table.Statements.Others),
                    "Updating",
                    cancellation,
                    table.Schema
                );
            }

            Count(counts, table, new ApplyCounts(table.Inserts - touched, 0));
        }
    }

    /// <summary>What was staged for one table.</summary>
    private sealed class Staged(TableSchema form, string staging, TableStatements statements)
    {
        private readonly Dictionary<string, (int What, int Rows)> masks = [];

        public TableSchema Schema => form;

        public string Staging => staging;

        public TableStatements Statements => statements;

        public int Deletes { get; private set; }

        public int Inserts { get; private set; }

        public IEnumerable<(string Mask, int What, int Rows)> Masks => masks.Select(pair => (pair.Key, pair.Value.What, pair.Value.Rows));

        /// <summary>Counts a row and returns its number in the staging table.</summary>
        public int Take(FoldedRow row)
        {
            switch (row.Kind)
            {
                case ChangeKind.Delete:
                    Deletes++;
                    return Delete;
                case ChangeKind.Insert:
                    Inserts++;
                    return Insert;
                default:
                    var mask = MaskOf(row.After);
                    var known = masks.TryGetValue(mask, out var found) ? found : (What: FirstUpdate + masks.Count, Rows: 0);
                    masks[mask] = (known.What, known.Rows + 1);
                    return known.What;
            }
        }
    }
}
