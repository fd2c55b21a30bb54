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
        checks.Add(TriggersLine(aside));
        checks.AddRange(await TypesAsync(connection, tables, cancellation));
        checks.AddRange(
            await NeedReadiness.CheckAsync(
                connection,
                tables.Where(table => !begun.Contains(table.Name) && existing.GetValueOrDefault(table.Name) != ExistingRows.Keep),
                cancellation
            )
        );
        var owners = await OwnersAsync(connection, cancellation);
        foreach (var table in tables.Where(table => !begun.Contains(table.Name)))
        {
            var meaning = existing.GetValueOrDefault(table.Name);
            if (await TableAsync(connection, table, meaning, owners.GetValueOrDefault(table.Name), cancellation) is { } check)
            {
                checks.Add(check);
                checks.AddRange(meaning == ExistingRows.Replace ? [] : await FiringAsync(connection, table, aside, cancellation));
            }
        }

        return checks;
    }

    private static async Task<ReadinessCheck> RoutesAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        var possible = await RouteMessage.IsPossibleAsync(connection, cancellation);
        return new ReadinessCheck(
            "route messages",
            true,
            possible
                ? "each transaction says which databases its rows came from, so that no loop of crossings carries them back (readers "
                    + "get it from version 14 on)"
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
    /// Types of columns that the target does not have and that are not made with the tables: a slip of the pen, or an extension that is
    /// missing.
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
                        $"{problem}; {table}.{column} is to have it",
                        "a type that the target has",
                        "Correct the type in the treatment, or make it on the target, with the extension that it belongs to.",
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
            encoding == "UTF8" ? null : "Make the target database with ENCODING 'UTF8'.",
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
            may ? "schemas and tables can be made" : $"{target.Settings.User} may not create schemas",
            "CREATE in the database: for the tables and for the small schema vestige that keeps the position",
            may
                ? null
                : $"GRANT CREATE ON DATABASE {Quote.Name(target.Settings.Database)} TO {Quote.Name(target.Settings.User)}; it is in "
                    + "the preparation script.",
            TimeSpan.Zero
        );
    }

    private static ReadinessCheck TriggersLine(bool aside) =>
        new(
            "triggers and references",
            true,
            aside ? "are left aside while rows are applied" : "fire on each row: the role may not set session_replication_role",
            "left aside, or none that write",
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

    /// <summary>
    /// The triggers and rules of a table that would act on applied rows: those set to act always or on replicas, and the
    /// ordinary ones where the role may not leave them aside. They would do once more what the source has done already.
    /// </summary>
    private static async Task<IReadOnlyList<ReadinessCheck>> FiringAsync(
        NpgsqlConnection connection,
        TableSchema table,
        bool aside,
        CancellationToken cancellation
    )
    {
        var acting = aside ? "('A', 'R')" : "('A', 'O')";
        await using var command = new NpgsqlCommand(
            $"""
            SELECT coalesce(string_agg(what, ', ' ORDER BY what), '') FROM (
              SELECT 'trigger ' || tgname AS what FROM pg_trigger
                  WHERE tgrelid = to_regclass($1) AND NOT tgisinternal AND tgenabled IN {acting}
              UNION ALL SELECT 'rule ' || rulename FROM pg_rewrite
                  WHERE ev_class = to_regclass($1) AND ev_type IN ('2', '3', '4') AND ev_enabled IN {acting}) found
            """,
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table.Name)));
        return (string)(await command.ExecuteScalarAsync(cancellation))! is { Length: > 0 } firing
            ?
            [
                new ReadinessCheck(
                    $"triggers of {table.Name}",
                    false,
                    $"it has what would act on each row again: {firing}",
                    "no trigger or rule that acts while rows are applied",
                    "ALTER TABLE ... DISABLE TRIGGER (or RULE) there; one that is not set to ALWAYS or REPLICA rests by itself where "
                        + "the role may set session_replication_role, which the preparation script grants. Or accept it, if what they "
                        + "do bears being done again.",
                    TimeSpan.Zero
                )
                {
                    MayAccept = true,
                },
            ]
            : [];
    }

    private static async Task<Dictionary<TableName, string>> OwnersAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        var owners = new Dictionary<TableName, string>();
        if (!await ProgressStore.IsThereAsync(connection, cancellation))
        {
            return owners;
        }

        await using var command = new NpgsqlCommand(
            "SELECT schema, name, crossing, to_jsonb(t) ->> 'into_tables' FROM vestige.progress_table t ORDER BY crossing DESC",
            connection
        );
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
        {
            IReadOnlyList<TableName> names = reader.IsDBNull(3)
                ? [new TableName(reader.GetString(0), reader.GetString(1))]
                : TableProgress.NamesIn(reader.GetString(3));
            foreach (var name in names)
            {
                owners[name] = reader.GetString(2);
            }
        }

        return owners;
    }

    /// <summary>A table that others refer to cannot be dropped without them.</summary>
    private static async Task<ReadinessCheck> ReplacedAsync(
        NpgsqlConnection connection,
        TableSchema table,
        string step,
        CancellationToken cancellation
    )
    {
        const string Sql = """
            SELECT coalesce(string_agg(DISTINCT d.refers, ', ' ORDER BY d.refers), '') FROM (
              SELECT conrelid::regclass::text AS refers FROM pg_constraint
                  WHERE contype = 'f' AND confrelid = to_regclass($1) AND conrelid <> confrelid
              UNION ALL SELECT r.ev_class::regclass::text FROM pg_depend p
                  JOIN pg_rewrite r ON r.oid = p.objid WHERE p.classid = 'pg_rewrite'::regclass AND p.refobjid = to_regclass($1)
                      AND r.ev_class <> p.refobjid) d
            """;
        await using var command = new NpgsqlCommand(Sql, connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table.Name)));
        var referring = (string)(await command.ExecuteScalarAsync(cancellation))!;
        if (referring.Length > 0)
        {
            return new ReadinessCheck(
                step,
                false,
                $"it cannot be dropped: {referring} depend on it",
                "a table that nothing depends on",
                "Drop those first, or have its rows deleted instead.",
                TimeSpan.Zero
            );
        }

        var rows = await CountAsync(connection, table, cancellation);
        return new ReadinessCheck(
            step,
            true,
            $"it is dropped with its {rows.Of("row")} and created again",
            "leave to drop it",
            null,
            TimeSpan.Zero
        )
        {
            Loses = $"{table.Name} with {rows.Of("row")}",
        };
    }

    /// <summary>Rows are merged by the primary key, so the target's is that of the changes.</summary>
    private static async Task<ReadinessCheck> MergedAsync(
        NpgsqlConnection connection,
        TableSchema table,
        string step,
        RowCount rows,
        CancellationToken cancellation
    )
    {
        var (wanted, found) = (
            table.KeyOrdinals.Select(i => table.Columns[i].Name).ToList(),
            await PrimaryKey.OfAsync(connection, table.Name, cancellation)
        );
        return wanted.SequenceEqual(found)
            ? new ReadinessCheck(
                step,
                true,
                $"its {rows.Of("row")} stay; those whose key the source has too are overwritten",
                "rows of other keys, or leave to overwrite them",
                null,
                TimeSpan.Zero
            )
            {
                Loses =
                    rows.Rows == 0
                        ? null
                        : $"what differs in those of the {rows.Of("row")} of {table.Name} whose key the source has too",
            }
            : new ReadinessCheck(
                step,
                false,
                found.Count == 0 ? "it has no primary key" : $"its primary key is ({string.Join(", ", found)})",
                $"the primary key ({string.Join(", ", wanted)}), by which rows are merged",
                $"ALTER TABLE {Quote.Name(table.Name)} ADD PRIMARY KEY ({string.Join(", ", wanted.Select(Quote.Name))})",
                TimeSpan.Zero
            );
    }

    /// <summary>A plan is made again with every choice: not by reading all of a large table.</summary>
    private static Task<RowCount> CountAsync(NpgsqlConnection connection, TableSchema table, CancellationToken cancellation) =>
        BoundedCount.OfAsync(connection, Quote.Name(table.Name), table.Name, null, cancellation);

    private static async Task<ReadinessCheck?> TableAsync(
        NpgsqlConnection connection,
        TableSchema table,
        ExistingRows existing,
        string? owner,
        CancellationToken cancellation
    )
    {
        var step = $"target table {table.Name}";
        if (owner is not null)
        {
            return new ReadinessCheck(
                step,
                false,
                $"the crossing {owner} writes to it",
                "a table of its own",
                "Leave the table out, or remove that crossing.",
                TimeSpan.Zero
            );
        }

        await using var there = new NpgsqlCommand("SELECT to_regclass($1) IS NOT NULL", connection);
        there.Parameters.Add(PostgreSqlDatabase.Text(Quote.Name(table.Name)));
        if (!(bool)(await there.ExecuteScalarAsync(cancellation))!)
        {
            return null;
        }

        if (existing == ExistingRows.Replace)
        {
            return await ReplacedAsync(connection, table, step, cancellation);
        }

        if (await SchemaComparison.DifferenceAsync(connection, table, cancellation) is { } difference)
        {
            return new ReadinessCheck(
                step,
                false,
                $"it has another form: {difference}",
                "the same columns and types",
                "Drop or alter the target's table, or leave it out.",
                TimeSpan.Zero
            );
        }

        var rows = await CountAsync(connection, table, cancellation);
        if (existing == ExistingRows.Merge)
        {
            return await MergedAsync(connection, table, step, rows, cancellation);
        }

        if (existing == ExistingRows.Keep)
        {
            return new ReadinessCheck(
                step,
                true,
                $"its {rows.Of("row")} stay, and changes are applied to them",
                "rows that agree with the source's",
                null,
                TimeSpan.Zero
            );
        }

        return rows.Rows == 0 ? new ReadinessCheck(step, true, "it is there and empty", "no rows", null, TimeSpan.Zero)
            : existing == ExistingRows.Empty
                ? new ReadinessCheck(
                    step,
                    true,
                    $"its {rows.Of("row")} will be deleted",
                    "no rows, or leave to delete them",
                    null,
                    TimeSpan.Zero
                )
                {
                    Loses = $"{rows.Of("row")} of {table.Name}",
                }
            : new ReadinessCheck(
                step,
                false,
                $"it already has {rows.Of("row")}",
                "no rows, or leave to delete them",
                "Empty the table, or choose that existing rows are deleted first.",
                TimeSpan.Zero
            );
    }
}
