using Npgsql;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;

namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>What a database must have so that its log can be read, from the values in force.</summary>
internal static class SourceReadiness
{
    private static readonly TimeSpan OldTransaction = TimeSpan.FromSeconds(10);

    public static async Task<IReadOnlyList<ReadinessCheck>> CheckAsync(
        NpgsqlConnection connection,
        PostgreSqlSource source,
        IReadOnlyList<TableName> tables,
        CancellationToken cancellation
    )
    {
        var settings = await SettingsAsync(connection, cancellation);
        var checks = new List<ReadinessCheck>
        {
            Setting(settings["wal_level"], value => value == "logical", "logical", "ALTER SYSTEM SET wal_level = 'logical'"),
            await LogRightAsync(connection, source.Settings.User, cancellation),
            await FreeAsync(
                connection,
                settings["max_replication_slots"],
                "replication slots",
                "SELECT count(*) FROM pg_replication_slots WHERE slot_name <> $1",
                source.Names.Slot,
                2,
                cancellation
            ),
            await FreeAsync(
                connection,
                settings["max_wal_senders"],
                "log senders",
                "SELECT count(*) FROM pg_stat_replication WHERE application_name <> $1",
                "vestige",
                2,
                cancellation
            ),
            KeptLog(settings),
            TimeOut(settings["wal_sender_timeout"].Value),
            await SlotAsync(connection, source.Names.Slot, cancellation),
            await OpenTransactionsAsync(connection, cancellation),
        };
        if (await EncodingAsync(connection, cancellation) is { } encoding)
        {
            checks.Add(encoding);
        }

        if (await LargeObjectsAsync(connection, cancellation) is { } large)
        {
            checks.Add(large);
        }

        foreach (var table in tables)
        {
            if (await TableAsync(connection, table, cancellation) is { } check)
            {
                checks.Add(check);
            }
        }

        if (tables.Count > 0)
        {
            checks.Add(await IdentityAsync(connection, tables, cancellation));
        }

        checks.Add(await PublishAsync(connection, tables, cancellation));
        if (await ReleaseAsync(connection, cancellation) is { } older)
        {
            checks.Add(older);
        }

        checks.AddRange(await PartitionReadiness.CheckAsync(connection, source.Names, tables, cancellation));
        checks.AddRange(await InsertsReadiness.CheckAsync(connection, source.Names, tables, cancellation));
        checks.Add(await MarksAsync(connection, cancellation));
        return checks;
    }

    private static async Task<Dictionary<string, SettingInForce>> SettingsAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        const string Names = "('wal_level', 'max_replication_slots', 'max_wal_senders', 'max_slot_wal_keep_size', 'wal_sender_timeout')";
        var written = await WrittenAsync(connection, Names, cancellation);
        await using var command = new NpgsqlCommand(
            $"SELECT name, current_setting(name), pending_restart FROM pg_settings WHERE name IN {Names}",
            connection
        );
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        var found = new Dictionary<string, SettingInForce>();
        while (await reader.ReadAsync(cancellation))
        {
            var name = reader.GetString(0);
            found[name] = new SettingInForce(name, reader.GetString(1), reader.GetBoolean(2), written.GetValueOrDefault(name));
        }

        found.TryAdd("max_slot_wal_keep_size", new SettingInForce("max_slot_wal_keep_size", "-1", false, null));
        return found;
    }

    /// <summary>What the configuration files say, where the role may read that.</summary>
    private static async Task<Dictionary<string, string>> WrittenAsync(
        NpgsqlConnection connection,
        string names,
        CancellationToken cancellation
    )
    {
        var written = new Dictionary<string, string>();
        await using var may = new NpgsqlCommand(
            "SELECT has_function_privilege('pg_show_all_file_settings()', 'EXECUTE') AND has_table_privilege('pg_file_settings', 'SELECT')",
            connection
        );
        if (!(bool)(await may.ExecuteScalarAsync(cancellation))!)
        {
            return written;
        }

        await using var command = new NpgsqlCommand(
            $"SELECT name, setting FROM pg_file_settings WHERE setting IS NOT NULL AND name IN {names} ORDER BY seqno",
            connection
        );
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        while (await reader.ReadAsync(cancellation))
        {
            written[reader.GetString(0)] = reader.GetString(1);
        }

        return written;
    }

    private static ReadinessCheck Setting(SettingInForce setting, Func<string, bool> holds, string needed, string statement)
    {
        var ok = holds(setting.Value);
        var waits = setting.WaitsForRestart
            ? $"; another value{(setting.Waiting is { } value ? $", {value}," : "")} is set and waits for a restart of the server"
            : "";
        var remedy = setting.WaitsForRestart ? "Restart the server." : $"{statement}; then restart the server.";
        return new ReadinessCheck(setting.Name, ok, $"{setting.Value} is in force{waits}", needed, ok ? null : remedy, TimeSpan.Zero);
    }

    private static async Task<ReadinessCheck> LogRightAsync(NpgsqlConnection connection, string user, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT rolsuper OR rolreplication FROM pg_roles WHERE rolname = current_user",
            connection
        );
        var may = (bool)(await command.ExecuteScalarAsync(cancellation))!;
        return new ReadinessCheck(
            "right to read the log",
            may,
            may ? $"{user} has it" : $"{user} lacks it",
            "REPLICATION",
            may ? null : $"ALTER ROLE {Quote.Name(user)} REPLICATION; it is in the preparation script.",
            TimeSpan.Zero
        );
    }

    private static async Task<ReadinessCheck> FreeAsync(
        NpgsqlConnection connection,
        SettingInForce limit,
        string what,
        string count,
        string ours,
        int needed,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(count, connection);
        command.Parameters.Add(PostgreSqlDatabase.Text(ours));
        var used = (long)(await command.ExecuteScalarAsync(cancellation))!;
        var free = long.Parse(limit.Value, System.Globalization.CultureInfo.InvariantCulture) - used;
        var waits = limit.WaitsForRestart ? "; another limit waits for a restart of the server" : "";
        return new ReadinessCheck(
            limit.Name,
            free >= needed,
            $"{free} of {limit.Value} {what} free{waits}",
            $"{needed} free: one to follow, one while loading",
            free >= needed
                ? null
                : $"Drop some that nobody uses, or ALTER SYSTEM SET {limit.Name} = {used + needed + 2} and restart the server.",
            TimeSpan.Zero
        );
    }

    /// <summary>Without a limit, a reader that stays away fills the source's disk; with one, it loses its place. Both are said.</summary>
    private static ReadinessCheck KeptLog(Dictionary<string, SettingInForce> settings)
    {
        var value = settings["max_slot_wal_keep_size"].Value;
        return new ReadinessCheck(
            "log kept for readers",
            true,
            value == "-1"
                ? "without limit: if Vestige stays away, the source's disk fills"
                : $"at most {value}: if Vestige stays away longer, the tables are loaded again",
            "any; know which",
            null,
            TimeSpan.Zero
        );
    }

    /// <summary>After a check has died, the slot stays taken for that long, and reading it again has to wait.</summary>
    private static ReadinessCheck TimeOut(string value) =>
        new(
            "wal_sender_timeout",
            true,
            value == "0"
                ? "0 is in force: the server never gives up a reader whose check has died, and its slot stays taken; ALTER SYSTEM SET "
                    + "wal_sender_timeout = '60s' and SELECT pg_reload_conf() change that"
                : $"{value} is in force: that long the slot stays taken after a check has died",
            "more than 0; Vestige's own sessions run without time-outs",
            null,
            TimeSpan.Zero
        );

    /// <summary>
    /// Such a server takes any bytes for text and never converts them (PostgreSQL manual, Character Set Support); null with any other
    /// encoding.
    /// </summary>
    private static async Task<ReadinessCheck?> EncodingAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand("SHOW server_encoding", connection);
        return await command.ExecuteScalarAsync(cancellation) is "SQL_ASCII"
            ? new ReadinessCheck(
                "encoding of the source",
                false,
                "SQL_ASCII: the server does not know the encoding of its text; bytes that are not UTF-8 end a load with an error, and "
                    + "changes with them go into quarantine",
                "an encoding that the server can convert, or text that is all UTF-8",
                "Convert the text to UTF-8 at the source, or leave out the tables that have other bytes. If all text is UTF-8, accept it.",
                TimeSpan.Zero
            )
            {
                MayAccept = true,
            }
            : null;
    }

    /// <summary>Large objects belong to no table and are not in the log; null when the database has none.</summary>
    private static async Task<ReadinessCheck?> LargeObjectsAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        const int Counted = 1000;
        await using var command = new NpgsqlCommand(
            $"SELECT count(*) FROM (SELECT FROM pg_largeobject_metadata LIMIT {Counted}) counted",
            connection
        );
        var count = (long)(await command.ExecuteScalarAsync(cancellation))!;
        return count == 0
            ? null
            : new ReadinessCheck(
                "large objects",
                true,
                $"{(count == Counted ? $"{Figures.Count(count)} or more" : Figures.Count(count))} in the database; they are not in "
                    + "the log and are not replicated; only the numbers that refer to them are",
                "none that a table refers to",
                null,
                TimeSpan.Zero
            );
    }

    /// <summary>What the log says about the row before, by table, and what that means for updates and deletes.</summary>
    private static async Task<ReadinessCheck> IdentityAsync(
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

    private static async Task<ReadinessCheck> SlotAsync(NpgsqlConnection connection, string slot, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn)::int8 FROM pg_replication_slots WHERE slot_name = $1",
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Text(slot));
        var kept = await command.ExecuteScalarAsync(cancellation) as long?;
        return new ReadinessCheck(
            "our place in the log",
            true,
            kept is null ? $"none yet; the first start makes the slot {slot}" : $"the slot {slot} keeps {Figures.Bytes(kept.Value)}",
            "made by the first start",
            null,
            TimeSpan.Zero
        );
    }

    /// <summary>What proves, on coming back, that the log is still the one that was read.</summary>
    private static async Task<ReadinessCheck> MarksAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        var possible = await LogHeartbeat.ArePossibleAsync(connection, cancellation);
        return new ReadinessCheck(
            "marks in the log",
            true,
            possible
                ? "a small message of our own every 10 s while something is written; it must be met again after each break"
                : "none: that needs version 14 and the right to call pg_logical_emit_message; without them a server put back to an "
                    + "older state of its disk is found out only while its log is shorter than it was",
            "marks; know it",
            null,
            TimeSpan.Zero
        );
    }

    private static async Task<ReadinessCheck> OpenTransactionsAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            """
            SELECT pid, coalesce(usename::text, ''), extract(epoch FROM clock_timestamp() - xact_start)::float8
            FROM pg_stat_activity WHERE xact_start IS NOT NULL AND pid <> pg_backend_pid()
                AND backend_xid IS NOT NULL ORDER BY xact_start LIMIT 1
            """,
            connection
        );
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        if (!await reader.ReadAsync(cancellation) || reader.GetDouble(2) < OldTransaction.TotalSeconds)
        {
            return new ReadinessCheck(
                "open transactions",
                true,
                "none older than 10 s",
                "none that lasts: the start waits for their end",
                null,
                TimeSpan.Zero
            );
        }

        var age = Figures.Duration(TimeSpan.FromSeconds(reader.GetDouble(2)));
        return new ReadinessCheck(
            "open transactions",
            true,
            $"session {reader.GetInt32(0)} of {reader.GetString(1)} has one open for {age}; the start waits until it ends",
            "none that lasts",
            null,
            TimeSpan.Zero
        );
    }

    private static async Task<ReadinessCheck?> TableAsync(NpgsqlConnection connection, TableName table, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT has_table_privilege(c.oid, 'SELECT') AND has_schema_privilege(n.oid, 'USAGE') FROM pg_class c JOIN pg_namespace n "
                + "ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2",
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Text(table.Schema));
        command.Parameters.Add(PostgreSqlDatabase.Text(table.Name));
        var may = await command.ExecuteScalarAsync(cancellation) as bool?;
        return may == true
            ? null
            : new ReadinessCheck(
                $"table {table}",
                false,
                "it may not be read",
                "SELECT",
                $"GRANT SELECT ON {Quote.Name(table)}; it is in the preparation script.",
                TimeSpan.Zero
            );
    }

    /// <summary>Adding a table to a publication needs its ownership, or the function of the preparation script.</summary>
    /// <summary>
    /// A table that loses its key refuses its own updates until it is no longer published; an older script cannot do that.
    /// </summary>
    private static async Task<ReadinessCheck?> ReleaseAsync(NpgsqlConnection connection, CancellationToken cancellation) =>
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

    private static async Task<ReadinessCheck> PublishAsync(
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
}
