using Npgsql;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// Tables that wait to be restored, in a schema of their own: they keep their names and those of their indexes, and only the server's
/// catalog is written, however large they are (PostgreSQL manual, ALTER TABLE, SET SCHEMA). Only the owner has rights on the schema.
/// </summary>
internal static class UndoSchema
{
    /// <summary>What the names of such schemas begin with.</summary>
    public const string Prefix = "vestige_undo_";

    public static string NameOf(string id) => Prefix + id;

    public static string CreateFor(string id) => $"CREATE SCHEMA {Quote.Name(NameOf(id))}";

    public static string MoveOf(string id, TableName table) => $"ALTER TABLE {Quote.Name(table)} SET SCHEMA {Quote.Name(NameOf(id))}";

    /// <summary>Views and other relations that read one of the tables, and references from tables of others.</summary>
    /// <param name="connection">The connection.</param>
    /// <param name="tables">The tables.</param>
    /// <param name="own">Tables whose references go with the tables.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<IReadOnlyList<string>> FollowersOfAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableName> tables,
        IReadOnlySet<TableName> own,
        CancellationToken cancellation
    )
    {
        const string Sql = """
            WITH taken AS (SELECT to_regclass(name)::oid AS number FROM unnest($1) name)
            SELECT DISTINCT n.nspname::text, c.relname::text, c.relkind = 'm', '' FROM taken
                JOIN pg_depend d ON d.refclassid = 'pg_class'::regclass AND d.refobjid = taken.number
                    AND d.classid = 'pg_rewrite'::regclass
                JOIN pg_rewrite r ON r.oid = d.objid JOIN pg_class c ON c.oid = r.ev_class JOIN pg_namespace n ON n.oid = c.relnamespace
            WHERE c.oid NOT IN (SELECT number FROM taken WHERE number IS NOT NULL)
            UNION ALL
            SELECT n.nspname::text, c.relname::text, false, o.conname::text FROM taken
                JOIN pg_constraint o ON o.contype = 'f' AND o.conparentid = 0 AND o.confrelid = taken.number
                JOIN pg_class c ON c.oid = o.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
            WHERE c.oid NOT IN (SELECT number FROM taken WHERE number IS NOT NULL)
            ORDER BY 1, 2, 4
            """;
        var found = new List<string>();
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(new NpgsqlParameter<string[]> { TypedValue = [.. tables.Select(Quote.Name)] });
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
        {
            var name = new TableName(reader.GetString(0), reader.GetString(1));
            var reference = reader.GetString(3);
            if (reference.Length == 0)
            {
                found.Add($"{(reader.GetBoolean(2) ? "materialized view" : "view")} {name}");
            }
            else if (!own.Contains(name))
            {
                found.Add($"reference {reference} of {name}");
            }
        }

        return found;
    }

    /// <summary>The names of a table's references to tables that are not taken away with it.</summary>
    public static Task<IReadOnlyList<string>> ReferencesFromAsync(
        NpgsqlConnection connection,
        TableName table,
        IReadOnlyList<TableName> together,
        CancellationToken cancellation
    ) =>
        NamesAsync(
            connection,
            "SELECT conname::text FROM pg_constraint WHERE contype = 'f' AND conparentid = 0 AND conrelid = to_regclass($1) "
                + "AND confrelid <> ALL (SELECT to_regclass(name)::oid FROM unnest($2) name) ORDER BY 1",
            cancellation,
            PostgreSqlDatabase.Text(Quote.Name(table)),
            new NpgsqlParameter<string[]> { TypedValue = [.. together.Select(Quote.Name)] }
        );

    /// <summary>The names of the tables that wait under an id.</summary>
    public static Task<IReadOnlyList<string>> FindAsync(NpgsqlConnection connection, string id, CancellationToken cancellation) =>
        NamesAsync(
            connection,
            "SELECT relname::text FROM pg_class WHERE relnamespace = to_regnamespace($1) AND relkind IN ('r', 'p') ORDER BY 1",
            cancellation,
            PostgreSqlDatabase.Text(Quote.Name(NameOf(id)))
        );

    /// <summary>All of them, in one transaction.</summary>
    public static async Task PutBackAsync(NpgsqlConnection connection, string id, string schema, CancellationToken cancellation)
    {
        await using var transaction = await connection.BeginTransactionAsync(cancellation);
        await RunAsync(connection, "SET LOCAL lock_timeout = '2s'", cancellation);
        foreach (var name in await FindAsync(connection, id, cancellation))
        {
            var table = new TableName(NameOf(id), name);
            await RunAsync(connection, $"ALTER TABLE {Quote.Name(table)} SET SCHEMA {Quote.Name(schema)}", cancellation);
        }

        await RunAsync(connection, $"DROP SCHEMA {Quote.Name(NameOf(id))}", cancellation);
        await transaction.CommitAsync(cancellation);
    }

    /// <summary>All of them, in one transaction; nothing where there are none.</summary>
    public static async Task DropAsync(NpgsqlConnection connection, string id, CancellationToken cancellation)
    {
        await using var transaction = await connection.BeginTransactionAsync(cancellation);
        await RunAsync(connection, "SET LOCAL lock_timeout = '2s'", cancellation);
        var tables = (await FindAsync(connection, id, cancellation)).Select(name => Quote.Name(new TableName(NameOf(id), name))).ToList();
        if (tables.Count > 0)
        {
            await RunAsync(connection, $"DROP TABLE {string.Join(", ", tables)}", cancellation);
        }

        await RunAsync(connection, $"DROP SCHEMA IF EXISTS {Quote.Name(NameOf(id))}", cancellation);
        await transaction.CommitAsync(cancellation);
    }

    private static async Task<IReadOnlyList<string>> NamesAsync(
        NpgsqlConnection connection,
        string sql,
        CancellationToken cancellation,
        params NpgsqlParameter[] parameters
    )
    {
        var names = new List<string>();
        await using var command = new NpgsqlCommand(sql, connection);
        command.Parameters.AddRange(parameters);
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
        {
            names.Add(reader.GetString(0));
        }

        return names;
    }

    private static async Task RunAsync(NpgsqlConnection connection, string statement, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(statement, connection);
        await command.ExecuteNonQueryAsync(cancellation);
    }
}
