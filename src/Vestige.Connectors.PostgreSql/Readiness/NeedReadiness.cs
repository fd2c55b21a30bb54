using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>Whether the target has what the structure of the tables uses: extensions, functions, operators, collations.</summary>
internal static class NeedReadiness
{
    public static async Task<IReadOnlyList<ReadinessCheck>> CheckAsync(
        NpgsqlConnection connection,
        IEnumerable<TableSchema> tables,
        CancellationToken cancellation
    )
    {
        var needs = tables
            .SelectMany(table => table.Objects.SelectMany(part => part.Needs.Select(need => (Need: need, By: Of(part, table.Name)))))
            .GroupBy(pair => (pair.Need.Kind, pair.Need.Name), pair => pair);
        var checks = new List<ReadinessCheck>();
        foreach (var need in needs)
        {
            var (wanted, by) = need.First();
            if (wanted.Kind == FoundNeed.ExtensionKind)
            {
                checks.AddRange(await ExtensionAsync(connection, wanted.Name, by, cancellation) is { } check ? [check] : []);
            }
            else if (!await IsThereAsync(connection, wanted, cancellation))
            {
                checks.Add(
                    new ReadinessCheck(
                        $"{wanted.Kind} {wanted.Name}",
                        false,
                        $"the target does not have it, and {by} uses it",
                        "the same one on the target",
                        "Create it on the target as it is at the source, or write a statement of your own for the table into the "
                            + "definition, under structure.",
                        TimeSpan.Zero
                    )
                );
            }
        }

        return checks;
    }

    private static string Of(SchemaObject part, TableName table) =>
        part.Stage switch
        {
            SchemaStage.Table => $"a column of {table}",
            SchemaStage.Before => table.ToString(),
            _ => $"{part.Name} of {table}",
        };

    /// <summary>Made with the tables where the server offers it and the role may; null then.</summary>
    private static async Task<ReadinessCheck?> ExtensionAsync(
        NpgsqlConnection connection,
        string name,
        string by,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            """
            SELECT EXISTS (SELECT FROM pg_extension WHERE extname = $1), EXISTS (SELECT FROM pg_available_extensions WHERE name = $1),
                   EXISTS (SELECT FROM pg_available_extension_versions v
                       WHERE v.name = $1 AND (NOT v.superuser OR (SELECT rolsuper FROM pg_roles WHERE rolname = current_user)
                     OR ((to_jsonb(v) ->> 'trusted')::boolean AND has_database_privilege(current_database(), 'CREATE'))))
            """,
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Text(name));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        await reader.ReadAsync(cancellation);
        var (there, offered, may) = (reader.GetBoolean(0), reader.GetBoolean(1), reader.GetBoolean(2));
        return there || (offered && may)
            ? null
            : new ReadinessCheck(
                $"extension {name}",
                false,
                $"{(offered ? "the role may not create it" : "the target's server does not offer it")}, and {by} uses it",
                "the extension on the target",
                $"{(offered ? "" : "Install it on the target's server; then, ")}{(offered ? "A" : "a")}s a DBA: CREATE EXTENSION "
                    + $"{Quote.Name(name)}.",
                TimeSpan.Zero
            );
    }

    private static async Task<bool> IsThereAsync(NpgsqlConnection connection, SchemaNeed need, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SELECT objid::int8 FROM pg_get_object_address($1, $2, $3)", connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(need.Kind));
        command.Parameters.Add(PostgreSqlDatabase.Texts(need.Address));
        command.Parameters.Add(PostgreSqlDatabase.Texts(need.Arguments));
        try
        {
            return await command.ExecuteScalarAsync(cancellation) is long;
        }
        catch (PostgresException exception)
            when (exception.SqlState.StartsWith("42", StringComparison.Ordinal) || exception.SqlState == "3F000")
        {
            return false;
        }
    }
}
