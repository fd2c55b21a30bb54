using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Connectors.PostgreSql.Targets;
using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>What a database must have so that tables can be written to it.</summary>
internal static class TargetReadiness
{
    public static async Task<IReadOnlyList<ReadinessCheck>> CheckAsync(
        NpgsqlConnection connection,
        PostgreSqlTarget target,
        IReadOnlyList<TableSchema> tables,
        IReadOnlyDictionary<TableName, ExistingRows> existing,
        IReadOnlySet<TableName> begun,
        CancellationToken cancellation
    )
    {
        var checks = new List<ReadinessCheck>
        {
            await EncodingAsync(connection, cancellation),
            await RightsAsync(connection, target, cancellation),
            await RoutesAsync(connection, cancellation),
        };
        var aside = await LeavesAsideAsync(connection, cancellation);
        checks.Add(TriggersCheck(aside));
        checks.AddRange(await TypesAsync(connection, tables, cancellation));
        checks.AddRange(
            await NeedReadiness.CheckAsync(
                connection,
                tables.Where(table => !begun.Contains(table.Name) && existing.GetValueOrDefault(table.Name) != ExistingRows.Keep),
                cancellation
            )
        );
        List<TableSchema> chosen = [.. tables.Where(table => !begun.Contains(table.Name))];
        checks.AddRange(await TargetTableReadiness.CheckAsync(connection, chosen, existing, aside, cancellation));
        return checks;
    }

    private static async Task<ReadinessCheck> RoutesAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        var possible = await RouteMessage.IsPossibleAsync(connection, cancellation);
        return new ReadinessCheck(
            "route messages",
            true,
            possible
                ? "each transaction names the databases that its rows came from, so that a loop of crossings never carries them back "
                    + "(readers see it from version 14 on)"
                : "none: the role may not call pg_logical_emit_message; a loop with crossings of another Vestige would not be noticed",
            "no action needed",
            null,
            TimeSpan.Zero
        )
        {
            IsWarning = true,
        };
    }

    /// <summary>
    /// Types of columns that the target lacks and that are not created with the tables: a typing error, or a missing extension.
    /// </summary>
    private static async Task<IReadOnlyList<ReadinessCheck>> TypesAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableSchema> tables,
        CancellationToken cancellation
    )
    {
        var made = tables
            .SelectMany(table => table.Objects)
            .Where(part => part.Stage == SchemaStage.Before)
            .Select(part => part.Name)
            .ToHashSet(StringComparer.Ordinal);
        var used = tables
            .SelectMany(table => table.Columns.Select(column => (column.Type, Table: table.Name, Column: column.Name)))
            .ToLookup(column => column.Type);
        var checks = new List<ReadinessCheck>();
        foreach (var type in used.Where(type => !IsMade(made, type.Key)))
        {
            if (await TypeProblemAsync(connection, type.Key, cancellation) is { } problem)
            {
                var (_, table, column) = type.First();
                checks.Add(
                    new ReadinessCheck(
                        $"type {type.Key}",
                        false,
                        $"{problem}; {table}.{column} needs it",
                        "a type that the target has",
                        "Correct the type in the treatment, or create it on the target, with its extension if it belongs to one.",
                        TimeSpan.Zero
                    )
                );
            }
        }

        return checks;
    }

    private static bool IsMade(HashSet<string> made, string type)
    {
        var name = type.TrimEnd('[', ']');
        return made.Contains(name) || made.Any(part => part.EndsWith($".{name}", StringComparison.Ordinal));
    }

    private static async Task<string?> TypeProblemAsync(NpgsqlConnection connection, string type, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SELECT to_regtype($1) IS NOT NULL", connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(type));
        try
        {
            return (bool)(await command.ExecuteScalarAsync(cancellation))! ? null : "the target has no such type";
        }
        catch (PostgresException exception)
            when (Failures.IsRefusal(exception) || exception.SqlState.StartsWith("42", StringComparison.Ordinal))
        {
            return $"the target says: {exception.MessageText}";
        }
    }

    private static async Task<ReadinessCheck> EncodingAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT pg_encoding_to_char(encoding)::text FROM pg_database WHERE datname = current_database()",
            connection
        );
        var encoding = (string)(await command.ExecuteScalarAsync(cancellation))!;
        return new ReadinessCheck(
            "encoding",
            encoding == "UTF8",
            encoding,
            "UTF8, which holds every character",
            encoding == "UTF8" ? null : "Create the target database with ENCODING 'UTF8'.",
            TimeSpan.Zero
        );
    }

    private static async Task<ReadinessCheck> RightsAsync(
        NpgsqlConnection connection,
        PostgreSqlTarget target,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            "SELECT has_database_privilege(current_database(), 'CREATE') OR to_regclass('vestige.progress_table') IS NOT NULL",
            connection
        );
        var may = (bool)(await command.ExecuteScalarAsync(cancellation))!;
        return new ReadinessCheck(
            "right to create",
            may,
            may ? "schemas and tables can be created" : $"{target.Settings.User} may not create schemas",
            "CREATE in the database: for the tables and for the schema vestige, which keeps the position",
            may
                ? null
                : $"GRANT CREATE ON DATABASE {Quote.Name(target.Settings.Database)} TO {Quote.Name(target.Settings.User)}; it is in "
                    + "the preparation script.",
            TimeSpan.Zero
        );
    }

    private static ReadinessCheck TriggersCheck(bool aside) =>
        new(
            "triggers and references",
            true,
            aside ? "do not fire while rows are applied" : "fire on each row: the role may not set session_replication_role",
            "off while rows are applied, or none that write",
            null,
            TimeSpan.Zero
        );

    private static async Task<bool> LeavesAsideAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        var may = await PostgreSqlTarget.MayReplicateAsync(connection, cancellation);
        if (may)
        {
            await using var back = new NpgsqlCommand("RESET session_replication_role", connection);
            await back.ExecuteNonQueryAsync(cancellation);
        }

        return may;
    }
}
