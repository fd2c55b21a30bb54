using Npgsql;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>What partitioned tables and their parts mean for a crossing.</summary>
internal static class PartitionReadiness
{
    public static async Task<IReadOnlyList<ReadinessCheck>> CheckAsync(
        NpgsqlConnection connection,
        LogNames names,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        var (all, keyless) = await PartitionedAsync(connection, tables, cancellation);
        ReadinessCheck?[] checks = [Wholes(all), Keyless(keyless), await TwiceAsync(connection, names, tables, cancellation)];
        return [.. checks.OfType<ReadinessCheck>()];
    }

    /// <summary>The partitioned ones among the tables, and those of them without a key; each null when there is none.</summary>
    private static async Task<(string? All, string? Keyless)> PartitionedAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            """
            SELECT string_agg(name, ', ' ORDER BY name), string_agg(name, ', ' ORDER BY name) FILTER (WHERE NOT keyed)
            FROM (
              SELECT quote_ident(t.schema) || '.' || quote_ident(t.name) AS name,
                     EXISTS (SELECT FROM pg_index i WHERE i.indrelid = c.oid AND i.indisprimary AND i.indimmediate) AS keyed
              FROM unnest($1::text[], $2::text[]) t(schema, name)
              JOIN pg_namespace n ON n.nspname = t.schema JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name
              WHERE c.relkind = 'p') partitioned
            """,
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Schema)));
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        await reader.ReadAsync(cancellation);
        return (reader.IsDBNull(0) ? null : reader.GetString(0), reader.IsDBNull(1) ? null : reader.GetString(1));
    }

    /// <summary>
    /// The log has no rows of a part that comes or goes as a whole (PostgreSQL manual, ALTER TABLE ... ATTACH PARTITION).
    /// </summary>
    private static ReadinessCheck? Wholes(string? names) =>
        names is null
            ? null
            : new ReadinessCheck(
                "partitioned tables",
                true,
                $"{names}: rows that come with a part which is attached, or go with one which is detached or dropped, are not in the "
                    + "log and emptying a part alone is not there either; such a table is held when that is noticed, until it is loaded "
                    + "again",
                "no action needed",
                null,
                TimeSpan.Zero
            )
            {
                IsWarning = true,
            };

    /// <summary>A part that is made later has the default replica identity, whatever that of the whole is.</summary>
    private static ReadinessCheck? Keyless(string? names) =>
        names is null
            ? null
            : new ReadinessCheck(
                "partitions without a key",
                true,
                $"{names}: a partition that is created later needs REPLICA IDENTITY FULL in the same transaction. Without it the "
                    + "source refuses updates and deletes of that partition until Vestige has removed the table from its publication, "
                    + "within about 5 s; the table is then held",
                "a primary key avoids this",
                null,
                TimeSpan.Zero
            )
            {
                IsWarning = true,
            };

    /// <summary>
    /// Another crossing reads the whole of what this one would read in parts, or the other way round; null when none does.
    /// </summary>
    private static async Task<ReadinessCheck?> TwiceAsync(
        NpgsqlConnection connection,
        LogNames names,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        var there = await Publication.TablesAsync(connection, names, cancellation) ?? new HashSet<TableName>();
        return await Publication.PartsWithTheirWholesAsync(connection, [.. there.Union(tables)], cancellation) is { } pair
            ? new ReadinessCheck(
                "wholes and parts",
                false,
                $"{pair.Part} is a part of {pair.Whole}, and a crossing of this connection takes the other of the two already",
                "the whole or the parts in all crossings of one connection, since they share one publication",
                "Choose as the other crossing does; or make another connection to the database for this one.",
                TimeSpan.Zero
            )
            : null;
    }
}
