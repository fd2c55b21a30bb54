using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Core.Schemas;
using Vestige.Engine.Structures;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// Indexes and constraints that a table lacks, with statements that add them while rows are written: an index concurrently, which keeps no
/// writer waiting (PostgreSQL manual, CREATE INDEX, Building Indexes Concurrently); a check or a reference first for new rows, and then
/// validated for the others (ALTER TABLE, ADD table_constraint NOT VALID).
/// </summary>
internal static class MissingParts
{
    private const string Sql = """
        SELECT conname::text, convalidated FROM pg_constraint WHERE conrelid = to_regclass($1)
        UNION ALL SELECT x.relname::text, true FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid
            WHERE i.indrelid = to_regclass($1) AND i.indisvalid
        """;

    /// <summary>What a table that is there lacks of its form; nothing where it is not there.</summary>
    /// <param name="connection">The target.</param>
    /// <param name="table">The table as it is to be.</param>
    /// <param name="others">Tables to which references are made.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<IReadOnlyList<MissingPart>> OfAsync(
        NpgsqlConnection connection,
        TableSchema table,
        IReadOnlySet<TableName> others,
        CancellationToken cancellation
    )
    {
        if (await KindAsync(connection, table.Name, cancellation) is not { } kind)
        {
            return [];
        }

        var present = await PresentAsync(connection, table.Name, cancellation);
        return
        [
            .. table
                .Objects.Where(part => part.NotMade is null && (part.References is not { } to || others.Contains(to)))
                .Where(part => !present.TryGetValue(part.Name, out var isValid) || !isValid)
                .Select(part => Of(table.Name, part, isPartitioned: kind == "p", isThere: present.ContainsKey(part.Name)))
                .OfType<MissingPart>(),
        ];
    }

    /// <summary>What drops an index that an attempt to build it has left; it is not valid then.</summary>
    public static async Task<IReadOnlyList<string>> LeftBehindAsync(
        NpgsqlConnection connection,
        MissingPart part,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            "SELECT 1 FROM pg_index WHERE indexrelid = to_regclass($1) AND indrelid = to_regclass($2) AND NOT indisvalid",
            connection
        );
        var index = Quote.Name(part.Table with { Name = part.Name });
        command.Parameters.Add(PostgreSqlDatabase.Text(index));
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(part.Table)));
        return await command.ExecuteScalarAsync(cancellation) is null ? [] : [$"DROP INDEX {index}"];
    }

    private static MissingPart? Of(TableName table, SchemaObject part, bool isPartitioned, bool isThere) =>
        part.Stage switch
        {
            SchemaStage.Index when part.Statement.StartsWith("CREATE ", StringComparison.Ordinal) => new MissingPart(
                table,
                part.Name,
                part.Statement.StartsWith("CREATE UNIQUE", StringComparison.Ordinal) ? "unique index" : "index",
                [isPartitioned ? part.Statement : Concurrently(part.Statement)]
            ),
            SchemaStage.Index => new MissingPart(table, part.Name, "exclusion constraint", [part.Statement]),
            SchemaStage.Key when part.Text.Length > 0 => new MissingPart(
                table,
                part.Name,
                "unique key",
                isPartitioned || !IsPlain(part.Text) ? [part.Statement] : ByIndex(table, part)
            ),
            SchemaStage.Reference => new MissingPart(table, part.Name, "reference", InTwo(table, part, part.Statement, isThere)),
            SchemaStage.Within when part.Text.StartsWith("CONSTRAINT ", StringComparison.Ordinal) => new MissingPart(
                table,
                part.Name,
                "check",
                InTwo(table, part, $"ALTER TABLE {Quote.Name(table)} ADD {part.Text}", isThere)
            ),
            _ => null,
        };

    private static string Concurrently(string statement)
    {
        const string Index = " INDEX ";
        var at = statement.IndexOf(Index, StringComparison.Ordinal) + Index.Length;
        return $"{statement[..at]}CONCURRENTLY {statement[at..]}";
    }

    /// <summary>Whether it is columns alone, for which an index can be made first: neither deferrable nor with options.</summary>
    private static bool IsPlain(string text) =>
        text.StartsWith("UNIQUE (", StringComparison.Ordinal) && text.IndexOf(')', StringComparison.Ordinal) == text.Length - 1;

    private static IReadOnlyList<string> ByIndex(TableName table, SchemaObject part) =>
        [
            $"CREATE UNIQUE INDEX CONCURRENTLY {Quote.Name(part.Name)} ON {Quote.Name(table)} {part.Text["UNIQUE ".Length..]}",
            $"ALTER TABLE {Quote.Name(table)} ADD CONSTRAINT {Quote.Name(part.Name)} UNIQUE USING INDEX {Quote.Name(part.Name)}",
        ];

    private static IReadOnlyList<string> InTwo(TableName table, SchemaObject part, string add, bool isThere)
    {
        var validate = $"ALTER TABLE {Quote.Name(table)} VALIDATE CONSTRAINT {Quote.Name(part.Name)}";
        return isThere ? [validate] : [$"{add} NOT VALID", validate];
    }

    private static async Task<string?> KindAsync(NpgsqlConnection connection, TableName table, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SELECT relkind::text FROM pg_class WHERE oid = to_regclass($1)", connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table)));
        return await command.ExecuteScalarAsync(cancellation) as string;
    }

    private static async Task<Dictionary<string, bool>> PresentAsync(
        NpgsqlConnection connection,
        TableName table,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var present = new Dictionary<string, bool>();
        while (await reader.ReadAsync(cancellation))
        {
            // A unique key and its index have one name.
            present[reader.GetString(0)] = reader.GetBoolean(1) && present.GetValueOrDefault(reader.GetString(0), true);
        }

        return present;
    }
}
