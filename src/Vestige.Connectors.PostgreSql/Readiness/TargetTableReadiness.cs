using Npgsql;
using Vestige.Connectors.PostgreSql.Catalogue;
using Vestige.Connectors.PostgreSql.Targets;
using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>Problems with writing to tables that the target already has.</summary>
internal static class TargetTableReadiness
{
    /// <summary>
    /// Checks of the tables that are there already, or that another crossing writes to; in the order given. A table that is still to be
    /// created has none.
    /// </summary>
    /// <param name="connection">An open connection to the target.</param>
    /// <param name="tables">The tables as they are to be on the target.</param>
    /// <param name="existing">What happens to rows that a table has; refused where it says nothing.</param>
    /// <param name="aside">Whether ordinary triggers stay off while rows are applied.</param>
    /// <param name="cancellation">Gives up.</param>
    public static async Task<IReadOnlyList<ReadinessCheck>> CheckAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableSchema> tables,
        IReadOnlyDictionary<TableName, ExistingRows> existing,
        bool aside,
        CancellationToken cancellation
    )
    {
        var owners = await OwnersAsync(connection, cancellation);
        var present = await PresentAsync(connection, tables, cancellation);
        var checks = new List<ReadinessCheck>();
        foreach (var table in tables)
        {
            var meaning = existing.GetValueOrDefault(table.Name);
            if (owners.TryGetValue(table.Name, out var owner))
            {
                checks.Add(Owned(table.Name, owner));
            }
            else if (present.Contains(table.Name))
            {
                checks.Add(await ExistingAsync(connection, table, meaning, cancellation));
            }
            else
            {
                continue;
            }

            checks.AddRange(meaning == ExistingRows.Replace ? [] : await FiringAsync(connection, table, aside, cancellation));
        }

        return checks;
    }

    private static ReadinessCheck Owned(TableName table, string owner) =>
        new(
            Step(table),
            false,
            $"the crossing {owner} writes to it",
            "a table of its own",
            "Leave the table out, or remove that crossing.",
            TimeSpan.Zero
        );

    private static string Step(TableName table) => $"target table {table}";

    private static async Task<IReadOnlySet<TableName>> PresentAsync(
        NpgsqlConnection connection,
        IReadOnlyList<TableSchema> tables,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            """
            SELECT t.schema, t.name FROM unnest($1::text[], $2::text[]) t(schema, name)
                JOIN pg_namespace n ON n.nspname = t.schema JOIN pg_class c ON c.relnamespace = n.oid AND c.relname = t.name
            """,
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name.Schema)));
        command.Parameters.Add(PostgreSqlDatabase.Texts(tables.Select(table => table.Name.Name)));
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var present = new HashSet<TableName>();
        while (await reader.ReadAsync(cancellation))
        {
            present.Add(new TableName(reader.GetString(0), reader.GetString(1)));
        }

        return present;
    }

    private static async Task<ReadinessCheck> ExistingAsync(
        NpgsqlConnection connection,
        TableSchema table,
        ExistingRows existing,
        CancellationToken cancellation
    )
    {
        var step = Step(table.Name);
        if (existing == ExistingRows.Replace)
        {
            return await ReplacedAsync(connection, table, step, cancellation);
        }

        if (await SchemaComparison.DifferenceAsync(connection, table, cancellation) is { } difference)
        {
            return new ReadinessCheck(
                step,
                false,
                $"its columns differ: {difference}",
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
                    "no rows, or permission to delete them",
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
                "no rows, or permission to delete them",
                "Empty the table, or choose that existing rows are deleted first.",
                TimeSpan.Zero
            );
    }

    /// <summary>A table that others refer to cannot be dropped alone.</summary>
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
            "permission to drop it",
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
                "rows of other keys, or permission to overwrite them",
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

    /// <summary>A plan is computed again with every choice, so a large table is not read to its end.</summary>
    private static Task<RowCount> CountAsync(NpgsqlConnection connection, TableSchema table, CancellationToken cancellation) =>
        BoundedCount.OfAsync(connection, Quote.Name(table.Name), table.Name, null, cancellation);

    /// <summary>
    /// The triggers and rules of a table that would act on applied rows: those set to act always or on replicas, and the
    /// ordinary ones where the role cannot switch them off. They would repeat what the source has done already.
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
                    $"these would act on each applied row again: {firing}",
                    "no trigger or rule that acts while rows are applied",
                    "Disable it on the target: ALTER TABLE ... DISABLE TRIGGER (or RULE). One that is not set to ALWAYS or REPLICA stays "
                        + "off where the role may set session_replication_role, which the preparation script grants. Accept it if "
                        + "repeating what it does is harmless.",
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
}
