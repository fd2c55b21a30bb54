using Npgsql;
using Vestige.Connectors.PostgreSql.Log;
using Vestige.Connectors.PostgreSql.Watching;
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
        var settings = await SourceSettings.ReadAsync(connection, cancellation);
        var checks = new List<ReadinessCheck>
        {
            SourceSettings.Setting(settings["wal_level"], value => value == "logical", "logical", "ALTER SYSTEM SET wal_level = 'logical'"),
            await LogRightAsync(connection, source.Settings.User, cancellation),
            await SourceSettings.FreeAsync(
                connection,
                settings["max_replication_slots"],
                "replication slots",
                "SELECT count(*) FROM pg_replication_slots WHERE slot_name <> $1",
                source.Names.Slot,
                2,
                cancellation
            ),
            await SourceSettings.FreeAsync(
                connection,
                settings["max_wal_senders"],
                "log senders",
                "SELECT count(*) FROM pg_stat_replication WHERE application_name <> $1",
                "vestige",
                2,
                cancellation
            ),
            SourceSettings.KeptLog(settings),
            SourceSettings.TimeOut(settings["wal_sender_timeout"].Value),
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

        checks.AddRange(await SourceTableReadiness.RightsAsync(connection, tables, cancellation));
        if (tables.Count > 0)
        {
            checks.Add(await SourceTableReadiness.IdentityAsync(connection, tables, cancellation));
        }

        checks.Add(await SourceTableReadiness.PublishAsync(connection, tables, cancellation));
        if (await SourceTableReadiness.ReleaseAsync(connection, cancellation) is { } older)
        {
            checks.Add(older);
        }

        checks.AddRange(await PartitionReadiness.CheckAsync(connection, source.Names, tables, cancellation));
        checks.AddRange(await InsertsReadiness.CheckAsync(connection, source.Names, tables, cancellation));
        checks.Add(await MarksAsync(connection, cancellation));
        checks.Add(await RecorderAsync(connection, cancellation));
        return checks;
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
                "SQL_ASCII: the server does not know the encoding of its text; bytes that are not UTF-8 stop a load with an error, and "
                    + "changes that contain them go into quarantine",
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

    private static async Task<ReadinessCheck> SlotAsync(NpgsqlConnection connection, string slot, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn)::int8 FROM pg_replication_slots WHERE slot_name = $1",
            connection
        );
        command.Parameters.Add(PostgreSqlDatabase.Text(slot));
        var kept = await command.ExecuteScalarAsync(cancellation) as long?;
        return new ReadinessCheck(
            "position in the log",
            true,
            kept is null ? $"none yet; the first start creates the slot {slot}" : $"the slot {slot} keeps {Figures.Bytes(kept.Value)}",
            "created by the first start",
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
                ? "Vestige writes a small message every 10 s while the source is written to, and must find it again after each interruption"
                : "none: they need version 14 and the right to call pg_logical_emit_message; without them, a server restored to an "
                    + "older state is noticed only while its log is shorter than before",
            "no action needed",
            null,
            TimeSpan.Zero
        );
    }

    /// <summary>Nothing stops without it.</summary>
    private static async Task<ReadinessCheck> RecorderAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        var isThere =
            await ChangeRecorder.IsThereAsync(connection, cancellation) && await ChangeRecorder.IsReadableAsync(connection, cancellation);
        return new ReadinessCheck(
            "schema changes in the log",
            true,
            isThere
                ? "an event trigger writes each one at its place"
                : "none: Vestige compares the catalog with what it saw before, and holds a table where that does not show what was done",
            "no action needed; the optional part of the preparation script adds the event trigger",
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
}
