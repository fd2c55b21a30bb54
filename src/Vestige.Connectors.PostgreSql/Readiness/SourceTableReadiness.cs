using Npgsql;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;

namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>What the chosen tables of a source must have so that their changes can be read: rights, publication, identity.</summary>
internal static class SourceTableReadiness
{
    /// <summary>What the log says about the row before, by table, and what that means for updates and deletes.</summary>
    public static async Task<ReadinessCheck> IdentityAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            """
            SELECT count(*) FILTER (WHERE c.relreplident = 'i' OR (c.relreplident = 'd'
                AND p.indrelid IS NOT NULL)), count(*) FILTER (WHERE c.relreplident = 'f'),
                    count(*) FILTER (WHERE c.relreplident = 'f' AND p.indrelid IS NULL),
                   count(*) FILTER (WHERE c.relreplident = 'n' OR (c.relreplident = 'd' AND p.indrelid IS NULL))
            FROM unnest($1::text[], $2::text[]) t(schema, name) JOIN pg_namespace n ON n.nspname = t.schema
                JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name
            LEFT JOIN pg_index p ON p.indrelid = c.oid AND p.indisprimary AND p.indimmediate
            """,
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Schema)));
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        await reader.ReadAsync(cancellation);
        var (byKey, whole, keyless, none) = (reader.GetInt64(0), reader.GetInt64(1), reader.GetInt64(2), reader.GetInt64(3));
        List<string> parts = [];
        if (byKey > 0)
        {
            parts.Add(
                $"{Figures.Of(byKey, "table")} by key: large values that did not change are not in the log and stay as the target has them"
            );
        }

        if (whole > keyless)
        {
            parts.Add(
                $"{Figures.Of(whole - keyless, "table")} with a key by the whole row before: nothing is missing, and the log is larger"
            );
        }

        if (keyless > 0)
        {
            parts.Add(
                $"{Figures.Of(keyless, "table")} without a key by the whole row: each change looks for an equal row, which is slow on "
                    + "large tables"
            );
        }

        if (none > 0)
        {
            parts.Add(
                $"{Figures.Of(none, "table")} with none: only inserts come, through a publication of inserts only, so that updates "
                    + "there do not fail"
            );
        }

        return new ReadinessCheck(
            "replica identity",
            true,
            string.Join("; ", parts),
            "one by which a changed row is found",
            null,
            TimeSpan.Zero
        );
    }

    /// <summary>One check for each table that may not be read, in the order given.</summary>
    public static async Task<IReadOnlyList<ReadinessCheck>> RightsAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            """
            SELECT n.nspname::text, c.relname::text FROM unnest($1::text[], $2::text[]) t(schema, name)
                JOIN pg_namespace n ON n.nspname = t.schema JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name
            WHERE has_table_privilege(c.oid, 'SELECT') AND has_schema_privilege(n.oid, 'USAGE')
            """,
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Schema)));
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name)));
        var readable = new HashSet<TableName>();
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
        {
            readable.Add(new TableName(reader.GetString(0), reader.GetString(1)));
        }

        return
        [
            .. tables
                .Where(table => !readable.Contains(table))
                .Select(table => new ReadinessCheck(
                    $"table {table}",
                    false,
                    "the role may not read it",
                    "SELECT",
                    $"GRANT SELECT ON {Quote.Name(table)}; it is in the preparation script.",
                    TimeSpan.Zero
                )),
        ];
    }

    /// <summary>Adding a table to a publication needs its ownership, or the function of the preparation script.</summary>
    public static async Task<ReadinessCheck> PublishAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            """
            SELECT coalesce(has_function_privilege(to_regprocedure('vestige.carry(text,text[],text[])'), 'EXECUTE'), false),
                   has_database_privilege(current_database(), 'CREATE') AND
                   NOT EXISTS (
                     SELECT 1 FROM unnest($1::text[], $2::text[]) t(schema, name) JOIN pg_namespace n ON n.nspname = t.schema
                         JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name
                     WHERE NOT pg_has_role(c.relowner, 'USAGE'))
            """,
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Schema)));
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        await reader.ReadAsync(cancellation);
        var (byFunction, owns) = (reader.GetBoolean(0), reader.GetBoolean(1));
        return new ReadinessCheck(
            "right to publish the tables",
            byFunction || owns,
            byFunction ? "through the function vestige.carry"
                : owns ? "the role owns what it needs"
                : "the role owns neither the tables nor may it use the function vestige.carry",
            "ownership of the tables and CREATE in the database, or the function",
            byFunction || owns ? null : "Run the preparation script of the connection as a DBA.",
            TimeSpan.Zero
        );
    }

    /// <summary>
    /// A table that loses its key refuses its own updates until it is no longer published; an older script cannot do that.
    /// </summary>
    public static async Task<ReadinessCheck?> ReleaseAsync(NpgsqlConnection connection, CancellationToken cancellation) =>
        !await Publication.HasFunctionAsync(connection, "carry", cancellation)
        || await Publication.HasFunctionAsync(connection, "release", cancellation)
            ? null
            : new ReadinessCheck(
                "right to stop publishing a table",
                false,
                "an older preparation script is installed: it lacks the function vestige.release, so updates of a table that loses "
                    + "its primary key would keep failing at the source",
                "the function vestige.release",
                "Run the preparation script of the connection again, as a DBA.",
                TimeSpan.Zero
            );
}
