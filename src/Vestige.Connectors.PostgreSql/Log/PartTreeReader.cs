using System.Globalization;
using Npgsql;
using Vestige.Connectors.PostgreSql.Watching;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>Reads what partitioned tables are made of.</summary>
internal static class PartTreeReader
{
    private const string Trees = """
        SELECT w.place, t.relid::oid, quote_ident(n.nspname) || '.' || quote_ident(c.relname), coalesce(pg_relation_filenode(t.relid),
            0)::oid, c.xmin::text, CASE WHEN t.isleaf AND NOT EXISTS (SELECT FROM pg_partition_ancestors(t.relid) a
                JOIN pg_partitioned_table p ON p.partrelid = a.relid WHERE p.partstrat = 'h' OR 0 = ANY (p.partattrs))
            THEN pg_get_partition_constraintdef(t.relid) END
        FROM unnest($1::text[], $2::text[]) WITH ORDINALITY w(schema, name, place)
        JOIN pg_namespace s ON s.nspname = w.schema JOIN pg_class r ON r.relnamespace = s.oid AND r.relname = w.name AND r.relkind = 'p'
        CROSS JOIN LATERAL pg_partition_tree(r.oid) t JOIN pg_class c ON c.oid = t.relid JOIN pg_namespace n ON n.oid = c.relnamespace
        """;

    /// <summary>Looks at those of the tables that are partitioned. <paramref name="known"/> are the parts that were there before.</summary>
    public static async Task<PartTreesSeen> ReadAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableName> tables,
        IReadOnlyDictionary<TableName, PartTree> known,
        CancellationToken cancellation
    )
    {
        var (_, _, horizon) = await EndAsync(connection, cancellation);
        var found = new Dictionary<TableName, Dictionary<uint, PartTreesSeen.Node>>();
        await using (var command = new NpgsqlCommand(Trees, connection))
        {
            command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Schema)));
            command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name)));
            await using var reader = await command.ExecuteReaderAsync(cancellation);
            while (await reader.ReadAsync(cancellation))
            {
                var whole = tables[(int)reader.GetInt64(0) - 1];
                if (!found.TryGetValue(whole, out var nodes))
                {
                    found.Add(whole, nodes = []);
                }

                var writer = uint.Parse(reader.GetString(4), CultureInfo.InvariantCulture);
                var bounds = reader.IsDBNull(5) ? null : reader.GetString(5);
                var part = new PartNode(reader.GetString(2), reader.GetFieldValue<uint>(3), bounds);
                nodes.Add(reader.GetFieldValue<uint>(1), new PartTreesSeen.Node(part, writer, BroughtRows: false));
            }
        }

        // Only after the trees: what shows in them was committed before.
        var (head, at, _) = await EndAsync(connection, cancellation);
        foreach (var (whole, nodes) in found)
        {
            foreach (
                var (identifier, node) in nodes
                    .Where(pair => pair.Value.Part.File != 0 && known.TryGetValue(whole, out var tree) && !tree.Nodes.ContainsKey(pair.Key))
                    .ToList()
            )
            {
                nodes[identifier] = node with
                {
                    BroughtRows = await BroughtRowsAsync(connection, identifier, node.Part.Name, cancellation),
                };
            }
        }

        foreach (var (whole, nodes) in found.Where(pair => known.ContainsKey(pair.Key)))
        {
            var tree = known[whole];
            foreach (
                var (identifier, node) in nodes
                    .Where(pair =>
                        tree.Nodes.TryGetValue(pair.Key, out var old)
                        && old.File != pair.Value.Part.File
                        && !tree.Emptied.Contains(pair.Value.Writer)
                    )
                    .ToList()
            )
            {
                nodes[identifier] = node with
                {
                    Survived = await OldRows.AreThereAsync(connection, identifier, tree.Horizon, cancellation),
                };
            }
        }

        return new PartTreesSeen(head, at, horizon, found);
    }

    /// <summary>
    /// Whether no row of a table satisfies the bounds of a part that was found to be gone or empty; one that is gone belongs to the table
    /// no longer, not even until the end of a concurrent detaching. False also where that cannot be said within a few seconds.
    /// </summary>
    public static async Task<bool> IsGoneAsync(
        NpgsqlConnection connection,
        TableName whole,
        uint part,
        SchemaChange change,
        CancellationToken cancellation
    )
    {
        try
        {
            await using var transaction = await connection.BeginTransactionAsync(cancellation);
            await using var limit = new NpgsqlCommand($"{PostgreSqlDatabase.LookLimits}; SET LOCAL row_security = off", connection);
            await limit.ExecuteNonQueryAsync(cancellation);
            await using var look = new NpgsqlCommand(
                $"SELECT ({(change.After is null ? "FALSE" : "TRUE")} OR NOT EXISTS (SELECT FROM pg_partition_ancestors({part}::oid) a "
                    + $"WHERE a.relid = to_regclass({Quote.Literal(Quote.Name(whole))}))) AND NOT EXISTS (SELECT FROM "
                    + $"{Quote.Name(whole)} WHERE {change.Before})",
                connection
            );
            return await look.ExecuteScalarAsync(cancellation) is true;
        }
        catch (PostgresException exception)
            when (exception.SqlState is "57014" or "55P03" || !(exception.IsTransient || Failures.IsOfMovedStructure(exception)))
        {
            return false;
        }
    }

    private static async Task<(LogPosition Head, DateTimeOffset At, long Horizon)> EndAsync(
        NpgsqlConnection connection,
        CancellationToken cancellation
    )
    {
        await using var end = new NpgsqlCommand(
            "SELECT extract(epoch FROM clock_timestamp())::float8, pg_current_wal_insert_lsn()::text, "
                + "txid_snapshot_xmin(txid_current_snapshot())",
            connection
        );
        await using var reader = await end.ExecuteReaderAsync(cancellation);
        await reader.ReadAsync(cancellation);
        return (Lsn.EndOf(Lsn.Of(reader.GetString(1))), DateTimeOffset.UnixEpoch.AddSeconds(reader.GetDouble(0)), reader.GetInt64(2));
    }

    /// <summary>
    /// Rows that are older than the youngest link between the part and the whole were not written through the whole, and the
    /// log does not have them as its rows. Rows of the very transaction that made the link count as such: it may have filled
    /// the table first. Where that cannot be looked at, rows may have come.
    /// </summary>
    private static async Task<bool> BroughtRowsAsync(NpgsqlConnection connection, uint part, string name, CancellationToken cancellation)
    {
        await using var may = new NpgsqlCommand($"SELECT has_table_privilege({part}::oid, 'SELECT')", connection);
        if (await may.ExecuteScalarAsync(cancellation) is not true)
        {
            return true;
        }

        try
        {
            await using var look = new NpgsqlCommand(
                $"SELECT EXISTS (SELECT FROM ONLY {name} WHERE age(xmin) >= (SELECT min(age(i.xmin)) FROM "
                    + $"pg_partition_ancestors({part}::oid) a JOIN pg_inherits i ON i.inhrelid = a.relid))",
                connection
            );
            return await look.ExecuteScalarAsync(cancellation) is true;
        }
        catch (PostgresException exception) when (exception.SqlState is "42P01" or "57014")
        {
            return true;
        }
    }
}
