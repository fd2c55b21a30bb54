using System.Globalization;
using Npgsql;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>Reads tables from the catalogue in full, and what was recorded of their changes.</summary>
internal static class TableStateReader
{
    /// <summary>As of one moment: with columns of one and a digest of another, a change between the two would never be noticed.</summary>
    /// <param name="connection">Of the source.</param>
    /// <param name="names">What the publications are called.</param>
    /// <param name="numbers">The tables.</param>
    /// <param name="known">What was known of them.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<(List<(TableName Name, TableState State)> States, IReadOnlyList<RecordedChange> Recorded)> ReadAsync(
        NpgsqlConnection connection,
        LogNames names,
        IReadOnlyCollection<uint> numbers,
        IEnumerable<TableState> known,
        CancellationToken cancellation
    )
    {
        await using var transaction = await connection.BeginTransactionAsync(System.Data.IsolationLevel.RepeatableRead, cancellation);
        var recorded = await RecordedChanges.ReadAsync(connection, numbers, known, cancellation);
        return (await StatesAsync(connection, names, numbers, cancellation), recorded);
    }

    private static async Task<List<(TableName Name, TableState State)>> StatesAsync(
        NpgsqlConnection connection,
        LogNames names,
        IReadOnlyCollection<uint> numbers,
        CancellationToken cancellation
    )
    {
        var columns = await ColumnsAsync(connection, numbers, cancellation);
        var guards = await GuardsAsync(connection, numbers, cancellation);
        await using var command = CatalogueGlancer.Asking(
            $"SELECT f.*, md5(f::text) FROM ({TableStatements.Facts}) f",
            connection,
            names,
            [],
            numbers
        );
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var found = new List<(TableName, TableState)>();
        while (await reader.ReadAsync(cancellation))
        {
            var number = reader.GetFieldValue<uint>(0);
            found.Add(
                (
                    new TableName(reader.GetString(1), reader.GetString(2)),
                    new TableState(
                        number,
                        reader.GetString(3),
                        reader.GetString(4),
                        reader.GetInt64(6),
                        columns.GetValueOrDefault(number, []),
                        reader.GetFieldValue<short[]>(11),
                        reader.IsDBNull(7) ? null : reader.GetFieldValue<uint>(7),
                        reader.IsDBNull(8) ? null : reader.GetFieldValue<uint>(8),
                        reader.GetBoolean(9),
                        reader.GetString(15)
                    )
                    {
                        Attributes = reader.GetInt16(12),
                        Guards = guards.GetValueOrDefault(number, []),
                    }
                )
            );
        }

        return found;
    }

    private static async Task<Dictionary<uint, List<ColumnState>>> ColumnsAsync(
        NpgsqlConnection connection,
        IReadOnlyCollection<uint> numbers,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(TableStatements.Columns, connection);
        command.Parameters.Add(PostgreSqlDatabase.Texts(numbers.Select(number => number.ToString(CultureInfo.InvariantCulture))));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var columns = new Dictionary<uint, List<ColumnState>>();
        while (await reader.ReadAsync(cancellation))
        {
            var number = reader.GetFieldValue<uint>(0);
            if (!columns.TryGetValue(number, out var mine))
            {
                columns.Add(number, mine = []);
            }

            mine.Add(
                new ColumnState(
                    reader.GetInt16(1),
                    reader.GetString(2),
                    reader.GetString(3),
                    reader.GetFieldValue<uint>(4),
                    reader.GetInt32(5),
                    reader.GetBoolean(6),
                    long.Parse(reader.GetString(7), CultureInfo.InvariantCulture),
                    reader.GetBoolean(8),
                    reader.GetBoolean(9),
                    reader.IsDBNull(10) ? null : reader.GetString(10)
                )
                {
                    Missing = reader.IsDBNull(11) ? null : reader.GetString(11),
                }
            );
        }

        return columns;
    }

    private static async Task<Dictionary<uint, List<GuardState>>> GuardsAsync(
        NpgsqlConnection connection,
        IReadOnlyCollection<uint> numbers,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(TableStatements.Guards, connection);
        command.Parameters.Add(PostgreSqlDatabase.Texts(numbers.Select(number => number.ToString(CultureInfo.InvariantCulture))));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var guards = new Dictionary<uint, List<GuardState>>();
        while (await reader.ReadAsync(cancellation))
        {
            // A definition is null where the object goes at this moment; the next look finds that it is gone.
            var text = await reader.IsDBNullAsync(3, cancellation) ? "" : reader.GetString(3);
            var guard = new GuardState(reader.GetFieldValue<uint>(1), reader.GetString(2), text);
            if (!guards.TryAdd(reader.GetFieldValue<uint>(0), [guard]))
            {
                guards[reader.GetFieldValue<uint>(0)].Add(guard);
            }
        }

        return guards;
    }
}
