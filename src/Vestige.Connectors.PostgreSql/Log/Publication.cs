using Npgsql;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>
/// Keeps the publication equal to what the crossings need: named tables only, never all. Adding a table needs its ownership;
/// where the role has none, the function of the preparation script does it.
/// </summary>
internal static class Publication
{
    /// <summary>Adds the tables that it lacks, making it when it is not there.</summary>
    public static async Task CarryAsync(NpgsqlConnection connection, string name, IReadOnlySet<TableName> tables, CancellationToken cancellation)
    {
        var there = await TablesAsync(connection, name, cancellation);
        var missing = await ExistingAsync(connection, [.. tables.Where(table => there?.Contains(table) != true).Order()], cancellation);
        if (there is not null && missing.Count == 0)
        {
            return;
        }

        if (await HasFunctionAsync(connection, cancellation))
        {
            await using var call = new NpgsqlCommand("SELECT vestige.carry($1, $2, $3)", connection);
            call.Parameters.Add(PostgreSqlDatabase.Text(name));
            call.Parameters.Add(PostgreSqlDatabase.Texts(missing.Select(table => table.Schema)));
            call.Parameters.Add(PostgreSqlDatabase.Texts(missing.Select(table => table.Name)));
            await call.ExecuteNonQueryAsync(cancellation);
            return;
        }

        try
        {
            foreach (var statement in Statements(name, there is not null, missing))
            {
                await using var command = new NpgsqlCommand(statement, connection);
                await command.ExecuteNonQueryAsync(cancellation);
            }
        }
        catch (PostgresException exception) when (exception.SqlState == "42501")
        {
            throw new PortException($"The tables cannot be added to the publication {name}: {exception.MessageText} (SQLSTATE 42501).", exception)
            {
                Transient = true,
                Mend = $"Run as a DBA: {string.Join("; ", Statements(name, there is not null, missing))}; or the preparation script of the connection. It is tried again by itself.",
            };
        }
    }

    /// <summary>
    /// A publication tells changes of a part as those of the whole once it has the whole; whoever waits for the part would get
    /// nothing more. So the two are never in it together.
    /// </summary>
    public static async Task<bool> RefuseTwiceAsync(NpgsqlConnection connection, IReadOnlySet<TableName> tables, CancellationToken cancellation) =>
        await PartsWithTheirWholesAsync(connection, [.. tables], cancellation) is not { } pair
            ? true
            : throw new PortException($"{pair.Part} is a part of {pair.Whole}, and both are to be read through one publication: its changes would come as those of {pair.Whole} only.")
            {
                Mend = "Take the one or the other in all crossings of this connection; or make another connection to the database for one of them.",
            };

    /// <summary>A part among the tables, and the partitioned table above it that is among them as well; null when there is none.</summary>
    public static async Task<(TableName Part, TableName Whole)?> PartsWithTheirWholesAsync(NpgsqlConnection connection, IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        const string Sql = """
            WITH chosen AS (
              SELECT c.oid, t.schema, t.name, c.relispartition
              FROM unnest($1::text[], $2::text[]) t(schema, name) JOIN pg_namespace n ON n.nspname = t.schema JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name)
            SELECT p.schema, p.name, w.schema, w.name
            FROM chosen p CROSS JOIN LATERAL pg_partition_ancestors(p.oid) a JOIN chosen w ON w.oid = a.relid AND w.oid <> p.oid
            WHERE p.relispartition LIMIT 1
            """;
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Schema)));
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        return await reader.ReadAsync(cancellation)
            ? (new TableName(reader.GetString(0), reader.GetString(1)), new TableName(reader.GetString(2), reader.GetString(3)))
            : null;
    }

    /// <summary>Those of the tables that there are.</summary>
    public static async Task<List<TableName>> ExistingAsync(NpgsqlConnection connection, IReadOnlyList<TableName> tables, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT t.place FROM unnest($1::text[], $2::text[]) WITH ORDINALITY t(schema, name, place) JOIN pg_namespace n ON n.nspname = t.schema JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name ORDER BY 1", connection);
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Schema)));
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var existing = new List<TableName>();
        while (await reader.ReadAsync(cancellation))
        {
            existing.Add(tables[(int)reader.GetInt64(0) - 1]);
        }

        return existing;
    }

    /// <summary>The tables in it; null when there is no such publication.</summary>
    public static async Task<IReadOnlySet<TableName>?> TablesAsync(NpgsqlConnection connection, string name, CancellationToken cancellation)
    {
        const string Sql = """
            SELECT n.nspname::text, c.relname::text
            FROM pg_publication p LEFT JOIN pg_publication_rel r ON r.prpubid = p.oid LEFT JOIN pg_class c ON c.oid = r.prrelid LEFT JOIN pg_namespace n ON n.oid = c.relnamespace
            WHERE p.pubname = $1
            """;
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(name));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        HashSet<TableName>? tables = null;
        while (await reader.ReadAsync(cancellation))
        {
            tables ??= [];
            if (!reader.IsDBNull(1))
            {
                tables.Add(new TableName(reader.GetString(0), reader.GetString(1)));
            }
        }

        return tables;
    }

    private static async Task<bool> HasFunctionAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SELECT to_regprocedure('vestige.carry(text,text[],text[])') IS NOT NULL", connection);
        return (bool)(await command.ExecuteScalarAsync(cancellation))!;
    }

    private static IEnumerable<string> Statements(string name, bool exists, List<TableName> missing)
    {
        if (!exists)
        {
            yield return $"CREATE PUBLICATION {Quote.Name(name)} WITH (publish = 'insert, update, delete, truncate', publish_via_partition_root = true)";
        }

        foreach (var table in missing)
        {
            yield return $"ALTER PUBLICATION {Quote.Name(name)} ADD TABLE ONLY {Quote.Name(table)}";
        }
    }
}
