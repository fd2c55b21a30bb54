using Npgsql;
using Vestige.Core.Readiness;

namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>The settings of a source's server: as they are in force, and what of them must change.</summary>
internal static class SourceSettings
{
    public static async Task<Dictionary<string, SettingInForce>> ReadAsync(NpgsqlConnection connection, CancellationToken cancellation)
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

    public static ReadinessCheck Setting(SettingInForce setting, Func<string, bool> holds, string needed, string statement)
    {
        var ok = holds(setting.Value);
        var waits = setting.WaitsForRestart
            ? $"; another value{(setting.Waiting is { } value ? $", {value}," : "")} is set and waits for a restart of the server"
            : "";
        var remedy = setting.WaitsForRestart ? "Restart the server." : $"{statement}; then restart the server.";
        return new ReadinessCheck(setting.Name, ok, $"{setting.Value} is in force{waits}", needed, ok ? null : remedy, TimeSpan.Zero);
    }

    public static async Task<ReadinessCheck> FreeAsync(
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

    /// <summary>Without a limit, a reader that stays away fills the source's disk; with one, its place is lost.</summary>
    public static ReadinessCheck KeptLog(Dictionary<string, SettingInForce> settings)
    {
        var value = settings["max_slot_wal_keep_size"].Value;
        return new ReadinessCheck(
            "log kept for readers",
            true,
            value == "-1"
                ? "no limit: while Vestige does not read, the source's disk fills"
                : $"at most {value}: if Vestige falls further behind, the tables must be loaded again",
            "any value",
            null,
            TimeSpan.Zero
        );
    }

    /// <summary>After a connection is lost, the slot stays in use for that long; reading it again has to wait.</summary>
    public static ReadinessCheck TimeOut(string value) =>
        new(
            "wal_sender_timeout",
            true,
            value == "0"
                ? "0 is in force: the server never drops a reader whose connection is lost, and its slot stays in use; to change that, run "
                    + "ALTER SYSTEM SET wal_sender_timeout = '60s' and SELECT pg_reload_conf()"
                : $"{value} is in force: the slot stays in use for that long after a connection is lost",
            "more than 0; Vestige's own sessions run without time-outs",
            null,
            TimeSpan.Zero
        );
}
