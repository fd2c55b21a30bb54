using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>
/// Keeps the publication equal to what the crossings need: named tables only, never all. Adding a table needs its ownership;
/// where the role has none, the function of the preparation script does it.
/// </summary>
internal static class Publication
{
    /// <summary>
    /// Makes both publications where they are missing. Before the slot: what was logged before a publication was made cannot be read
    /// through it.
    /// </summary>
    public static async Task MakeAsync(NpgsqlConnection connection, LogNames names, CancellationToken cancellation)
    {
        foreach (var name in new[] { names.Publication, names.Inserts })
        {
            if (await TablesAsync(connection, name, cancellation) is null)
            {
                await ChangeAsync(connection, name, exists: false, [], cancellation);
            }
        }
    }

    /// <summary>
    /// Adds the tables that are missing: those whose changed rows can be found again to the one, the others to that of inserts.
    /// </summary>
    public static async Task CarryAsync(
        NpgsqlConnection connection,
        LogNames names,
        IReadOnlySet<TableName> tables,
        CancellationToken cancellation
    )
    {
        var identified = await IdentifiedAsync(connection, [.. tables.Order()], cancellation);
        await AddAsync(connection, names.Publication, identified.Where(pair => pair.Value).Select(pair => pair.Key), cancellation);
        await AddAsync(connection, names.Inserts, identified.Where(pair => !pair.Value).Select(pair => pair.Key), cancellation);
    }

    /// <summary>Those of the tables that there are, and whether the log has by what a changed row of them is found again.</summary>
    public static async Task<IReadOnlyDictionary<TableName, bool>> IdentifiedAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        const string Sql = $"""
            SELECT t.place, {TableIdentity.Identified}
            FROM unnest($1::text[], $2::text[]) WITH ORDINALITY t(schema, name, place) JOIN pg_namespace n ON n.nspname = t.schema
                JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name
            ORDER BY 1
            """;
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Schema)));
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var found = new Dictionary<TableName, bool>();
        while (await reader.ReadAsync(cancellation))
        {
            found.Add(tables[(int)reader.GetInt64(0) - 1], reader.GetBoolean(1));
        }

        return found;
    }

    /// <summary>What is thrown where the publication that was read is not there any more.</summary>
    public static PlaceLostException Dropped(LogNames names, string place) =>
        new($"The publication {names.Publication} in {place} was dropped. Changes made since then are lost.")
        {
            Remedy = "Load the crossings of this source again, or remove them.",
        };

    /// <summary>Takes tables out of a publication. Throws <see cref="PostgresException"/> where the role may not.</summary>
    public static async Task ReleaseAsync(
        NpgsqlConnection connection,
        string name,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        if (await HasFunctionAsync(connection, "release", cancellation))
        {
            await CallAsync(connection, "release", name, tables, cancellation);
            return;
        }

        foreach (var statement in ReleaseStatements(name, tables))
        {
            await using var command = new NpgsqlCommand(statement, connection);
            await command.ExecuteNonQueryAsync(cancellation);
        }
    }

    /// <summary>
    /// The tables of a publication whose updates and deletes fail, since the log could not tell which row they change. Takes some
    /// milliseconds for thousands of tables.
    /// </summary>
    public static async Task<IReadOnlyList<TableName>> FailingAsync(
        NpgsqlConnection connection,
        string name,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            $"""
            SELECT n.nspname::text, c.relname::text
            FROM pg_publication p JOIN pg_publication_rel r ON r.prpubid = p.oid JOIN pg_class c ON c.oid = r.prrelid
                JOIN pg_namespace n ON n.oid = c.relnamespace
            WHERE p.pubname = $1 AND NOT ({TableIdentity.Identified})
            """,
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Text(name));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var failing = new List<TableName>();
        while (await reader.ReadAsync(cancellation))
        {
            failing.Add(new TableName(reader.GetString(0), reader.GetString(1)));
        }

        return failing;
    }

    /// <summary>What takes tables out of a publication.</summary>
    public static IEnumerable<string> ReleaseStatements(string name, IEnumerable<TableName> tables) =>
        tables.Select(table => $"ALTER PUBLICATION {Quote.Name(name)} DROP TABLE ONLY {Quote.Name(table)}");

    private static async Task AddAsync(
        NpgsqlConnection connection,
        string name,
        IEnumerable<TableName> tables,
        CancellationToken cancellation
    )
    {
        var wanted = tables.ToList();
        var there = await TablesAsync(connection, name, cancellation);
        if (there is null && wanted.Count > 0)
        {
            throw new PortException($"There is no publication {name}, and {wanted[0]} needs it.")
            {
                Remedy = "The place in the log was made without it: load the crossings of this source again.",
            };
        }

        List<TableName> missing = [.. wanted.Where(table => !there!.Contains(table))];
        if (missing.Count > 0)
        {
            await ChangeAsync(connection, name, exists: true, missing, cancellation);
        }
    }

    private static async Task ChangeAsync(
        NpgsqlConnection connection,
        string name,
        bool exists,
        List<TableName> missing,
        CancellationToken cancellation
    )
    {
        if (await HasFunctionAsync(connection, "carry", cancellation))
        {
            await CallAsync(connection, "carry", name, missing, cancellation);
            return;
        }

        try
        {
            foreach (var statement in Statements(name, exists, missing))
            {
                await using var command = new NpgsqlCommand(statement, connection);
                await command.ExecuteNonQueryAsync(cancellation);
            }
        }
        catch (PostgresException exception) when (exception.SqlState == "42501")
        {
            throw new PortException(
                $"The tables cannot be added to the publication {name}: {exception.MessageText} (SQLSTATE 42501).",
                exception
            )
            {
                Transient = true,
                Remedy =
                    $"Run as a DBA: {string.Join("; ", Statements(name, exists, missing))}; or the preparation script of the "
                    + "connection. Vestige retries automatically.",
            };
        }
    }

    /// <summary>
    /// A publication tells changes of a part as those of the whole once it has the whole; whoever waits for the part would get
    /// nothing more. So the two are never in it together.
    /// </summary>
    public static async Task<bool> RefuseTwiceAsync(
        NpgsqlConnection connection,
        IReadOnlySet<TableName> tables,
        CancellationToken cancellation
    ) =>
        await PartsWithTheirWholesAsync(connection, [.. tables], cancellation) is not { } pair
            ? true
            : throw new PortException(
                $"{pair.Part} is a part of {pair.Whole}, and both are to be read through one publication: its changes would come as "
                    + $"those of {pair.Whole} only."
            )
            {
                Remedy =
                    "Take the one or the other in all crossings of this connection; or make another connection to the database for "
                    + "one of them.",
            };

    /// <summary>A part among the tables, and the partitioned table above it that is among them as well; null when there is none.</summary>
    public static async Task<(TableName Part, TableName Whole)?> PartsWithTheirWholesAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        const string Sql = """
            WITH chosen AS (
              SELECT c.oid, t.schema, t.name, c.relispartition
              FROM unnest($1::text[], $2::text[]) t(schema, name) JOIN pg_namespace n ON n.nspname = t.schema
                  JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name)
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
    public static async Task<List<TableName>> ExistingAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            "SELECT t.place FROM unnest($1::text[], $2::text[]) WITH ORDINALITY t(schema, name, place) JOIN pg_namespace n ON "
                + "n.nspname = t.schema JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name ORDER BY 1",
            connection
        );
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

    /// <summary>Those of the two that there are, in the order in which the log is asked for them.</summary>
    public static async Task<IReadOnlyList<string>> NamesAsync(
        NpgsqlConnection connection,
        LogNames names,
        CancellationToken cancellation
    ) => await TablesAsync(connection, names.Inserts, cancellation) is null ? [names.Publication] : [names.Publication, names.Inserts];

    /// <summary>The tables in either; null when the one of whole changes is not there.</summary>
    public static async Task<IReadOnlySet<TableName>?> TablesAsync(
        NpgsqlConnection connection,
        LogNames names,
        CancellationToken cancellation
    )
    {
        var whole = await TablesAsync(connection, names.Publication, cancellation);
        return whole is null
            ? null
            : whole.Union(await TablesAsync(connection, names.Inserts, cancellation) ?? new HashSet<TableName>()).ToHashSet();
    }

    /// <summary>Drops both where the role may.</summary>
    public static async Task DropAsync(NpgsqlConnection connection, LogNames names, CancellationToken cancellation)
    {
        foreach (var name in new[] { names.Publication, names.Inserts })
        {
            await using var mine = new NpgsqlCommand(
                "SELECT p.pubname::text FROM pg_publication p JOIN pg_roles r ON r.oid = p.pubowner WHERE p.pubname = $1 AND "
                    + "pg_has_role(current_user, r.oid, 'USAGE')",
                connection
            );
            mine.Parameters.Add(PostgreSqlDatabase.Text(name));
            if (await mine.ExecuteScalarAsync(cancellation) is string)
            {
                await using var remove = new NpgsqlCommand($"DROP PUBLICATION IF EXISTS {Quote.Name(name)}", connection);
                await remove.ExecuteNonQueryAsync(cancellation);
            }
        }
    }

    /// <summary>The tables in it; null when there is no such publication.</summary>
    public static async Task<IReadOnlySet<TableName>?> TablesAsync(NpgsqlConnection connection, string name, CancellationToken cancellation)
    {
        const string Sql = """
            SELECT n.nspname::text, c.relname::text
            FROM pg_publication p LEFT JOIN pg_publication_rel r ON r.prpubid = p.oid LEFT JOIN pg_class c ON c.oid = r.prrelid
                LEFT JOIN pg_namespace n ON n.oid = c.relnamespace
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

    /// <summary>Whether the preparation script put a function there by which its DBA lets us change publications.</summary>
    public static async Task<bool> HasFunctionAsync(NpgsqlConnection connection, string function, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            $"SELECT to_regprocedure('vestige.{function}(text,text[],text[])') IS NOT NULL",
            connection
        );
        return (bool)(await command.ExecuteScalarAsync(cancellation))!;
    }

    private static async Task CallAsync(
        NpgsqlConnection connection,
        string function,
        string name,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        await using var call = new NpgsqlCommand($"SELECT vestige.{function}($1, $2, $3)", connection);
        call.Parameters.Add(PostgreSqlDatabase.Text(name));
        call.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Schema)));
        call.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name)));
        await call.ExecuteNonQueryAsync(cancellation);
    }

    private static IEnumerable<string> Statements(string name, bool exists, List<TableName> missing)
    {
        if (!exists)
        {
            var isOfInserts = name.StartsWith(LogNames.InsertsPrefix, StringComparison.Ordinal);
            var published = isOfInserts ? "insert" : "insert, update, delete, truncate";
            yield return $"CREATE PUBLICATION {Quote.Name(name)} WITH (publish = '{published}', publish_via_partition_root = true)";
        }

        foreach (var table in missing)
        {
            yield return $"ALTER PUBLICATION {Quote.Name(name)} ADD TABLE ONLY {Quote.Name(table)}";
        }
    }
}
