using Npgsql;
using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>A prepared statement a row, all in one round trip: for small batches, where staging would cost more than it saves.</summary>
internal sealed class RowWriterOneByOne(PostgreSqlTargetTransaction transaction) : IBatchWriter
{
    public async Task<IReadOnlyDictionary<TableName, ApplyCounts>> WriteAsync(
        IReadOnlyList<FoldedTable> tables,
        CancellationToken cancellation
    )
    {
        var commands = new List<(NpgsqlBatchCommand Command, TableSchema Table, FoldedRow Row)>();
        foreach (var folded in tables.Reverse())
        {
            Add(commands, folded, ChangeKind.Delete);
        }

        foreach (var kind in new[] { ChangeKind.Update, ChangeKind.Insert })
        {
            foreach (var folded in tables)
            {
                Add(commands, folded, kind);
            }
        }

        var counts = new Dictionary<TableName, ApplyCounts>();
        if (commands.Count == 0)
        {
            return counts;
        }

        var touched = await transaction.RunAsync(commands, cancellation);
        for (var i = 0; i < commands.Count; i++)
        {
            if (touched[i] == 0)
            {
                var (_, table, row) = commands[i];
                counts[table.Name] =
                    counts.GetValueOrDefault(table.Name) + await MendAsync(transaction.Of(table), table, row, cancellation);
            }
        }

        return counts;
    }

    /// <summary>
    /// Writes one change as the log has it; one whose key moves is updated in place, so that what the log left out stays.
    /// </summary>
    public async Task<ApplyCounts> WriteAsync(
        TableStatements statements,
        TableSchema table,
        FoldedRow row,
        bool movesKey,
        CancellationToken cancellation
    )
    {
        var command = movesKey
            ? Update(statements, table, row.Before, row.After, Present(row.After, Enumerable.Range(0, table.Columns.Count)))
            : CommandOf(statements, table, row);
        if (command is null)
        {
            return default;
        }

        var touched = await transaction.RunAsync([(command, table, row)], cancellation);
        if (touched[0] > 0)
        {
            return default;
        }

        return movesKey
            ? new ApplyCounts(0, Missing: 1)
                + await WriteAsync(
                    statements,
                    table,
                    new FoldedRow(ChangeKind.Insert, default, Whole(table, row.After)),
                    movesKey: false,
                    cancellation
                )
            : await MendAsync(statements, table, row, cancellation);
    }

    private static List<int> Present(Row row, IEnumerable<int> columns) => [.. columns.Where(i => row.KindAt(i) != ValueKind.Absent)];

    private static Row Whole(TableSchema table, Row row) =>
        !row.HasAbsent
            ? row
            : throw new RowRefusedException(
                $"A row of {table.Name}, key {RowKey.Display(row, table.KeyOrdinals)}, is not on the target, and the log does not "
                    + "carry all of it."
            )
            {
                Table = table.Name,
                Kind = ChangeKind.Update,
                Key = RowKey.Display(row, table.KeyOrdinals),
                Answer = "the row is not there",
                Remedy = "Load the table again.",
            };

    private void Add(List<(NpgsqlBatchCommand Command, TableSchema Table, FoldedRow Row)> commands, FoldedTable folded, ChangeKind kind)
    {
        var statements = transaction.Of(folded.Table);
        foreach (var row in folded.Rows)
        {
            if (row.Kind == kind && CommandOf(statements, folded.Table, row) is { } command)
            {
                commands.Add((command, folded.Table, row));
            }
        }
    }

    /// <summary>The statement for a row; null when there is nothing to set.</summary>
    private static NpgsqlBatchCommand? CommandOf(TableStatements statements, TableSchema table, FoldedRow row)
    {
        switch (row.Kind)
        {
            case ChangeKind.Insert:
                var whole = Whole(table, row.After);
                return With(statements.Insert, whole, Enumerable.Range(0, whole.Count));
            case ChangeKind.Delete:
                return With(statements.Delete, row.Before, table.KeyOrdinals);
            default:
                return Update(statements, table, row.After, row.After, Present(row.After, statements.Others));
        }
    }

    private static NpgsqlBatchCommand? Update(TableStatements statements, TableSchema table, Row key, Row after, List<int> set)
    {
        if (set.Count == 0)
        {
            return null;
        }

        var command = With(statements.Update(set), after, set);
        AddValues(command, key, table.KeyOrdinals);
        return command;
    }

    private static NpgsqlBatchCommand With(string statement, Row row, IEnumerable<int> columns)
    {
        var command = new NpgsqlBatchCommand(statement);
        AddValues(command, row, columns);
        return command;
    }

    private static void AddValues(NpgsqlBatchCommand command, Row row, IEnumerable<int> columns)
    {
        foreach (var column in columns)
        {
            command.Parameters.Add(PostgreSqlDatabase.Text(row.KindAt(column) == ValueKind.Null ? null : row.TextAt(column)));
        }
    }

    /// <summary>A row was there, or was not, against expectation: it is made as the source has it, and counted.</summary>
    private async Task<ApplyCounts> MendAsync(TableStatements statements, TableSchema table, FoldedRow row, CancellationToken cancellation)
    {
        switch (row.Kind)
        {
            case ChangeKind.Insert:
                if (Update(statements, table, row.After, row.After, [.. statements.Others]) is { } update)
                {
                    await transaction.RunAsync([(update, table, row)], cancellation);
                }

                return new ApplyCounts(AlreadyThere: 1, 0);
            case ChangeKind.Update:
                await transaction.RunAsync(
                    [(With(statements.Insert, Whole(table, row.After), Enumerable.Range(0, row.After.Count)), table, row)],
                    cancellation
                );
                return new ApplyCounts(0, Missing: 1);
            default:
                return new ApplyCounts(0, Missing: 1);
        }
    }
}
