using System.Globalization;
using System.Net;
using System.Net.Sockets;
using Npgsql;
using Vestige.Connectors.PostgreSql.Wire;
using Vestige.Core.Readiness;
using Vestige.Core.Text;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>
/// Each hop of a connection in turn: name, TCP, TLS, sign-in, database, version, clock, rights. Ends at the first that fails.
/// </summary>
internal static class Ladder
{
    private const int OldestVersion = 120000;

    public static async Task<IReadOnlyList<ReadinessCheck>> ClimbAsync(
        PostgreSqlDatabase database,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        var checks = new List<ReadinessCheck>();
        var settings = database.Settings;
        _ =
            await StepAsync("name", checks, clock, () => NameAsync(settings, cancellation))
            && await StepAsync("TCP", checks, clock, () => TcpAsync(settings, cancellation))
            && await StepAsync("TLS", checks, clock, () => TlsAsync(settings, cancellation))
            && await SignInAsync(database, checks, clock, cancellation);
        return checks;
    }

    private static async Task<bool> StepAsync(
        string step,
        List<ReadinessCheck> checks,
        TimeProvider clock,
        Func<Task<(bool Ok, string Found, string Needed, string? Remedy)>> look
    )
    {
        var began = clock.GetTimestamp();
        try
        {
            var (ok, found, needed, remedy) = await look();
            checks.Add(new ReadinessCheck(step, ok, found, needed, ok ? null : remedy, clock.GetElapsedTime(began)));
            return ok;
        }
        catch (PortException exception)
        {
            checks.Add(new ReadinessCheck(step, false, exception.Message, "an answer", exception.Remedy, clock.GetElapsedTime(began)));
            return false;
        }
        catch (Exception exception) when (Failures.IsServers(exception))
        {
            checks.Add(
                new ReadinessCheck(
                    step,
                    false,
                    exception.Message,
                    "an answer",
                    Failures.Of(exception, step).Remedy,
                    clock.GetElapsedTime(began)
                )
            );
            return false;
        }
    }

    private static async Task<(bool Ok, string Found, string Needed, string? Remedy)> NameAsync(
        PostgreSqlSettings settings,
        CancellationToken cancellation
    )
    {
        if (settings.Host.StartsWith('/'))
        {
            return (
                Directory.Exists(settings.Host),
                Directory.Exists(settings.Host) ? "a folder of Unix sockets" : $"there is no folder {settings.Host}",
                "the folder of the server's socket",
                "Correct the host."
            );
        }

        try
        {
            var found = await Dns.GetHostAddressesAsync(settings.Host, cancellation);
            return (
                found.Length > 0,
                string.Join(", ", found.Take(4).Select(address => address.ToString())),
                "an address",
                "Correct the host."
            );
        }
        catch (SocketException exception)
        {
            return (
                false,
                $"{settings.Host}: {exception.Message}",
                "a name that resolves",
                "Correct the host, or the name service of this machine."
            );
        }
    }

    private static async Task<(bool Ok, string Found, string Needed, string? Remedy)> TcpAsync(
        PostgreSqlSettings settings,
        CancellationToken cancellation
    )
    {
        await using var link = await ReplicationLink.ConnectAsync(settings with { Tls = TlsMode.Off }, cancellation);
        return (true, $"port {settings.Port} answers", "an open port", null);
    }

    private static async Task<(bool Ok, string Found, string Needed, string? Remedy)> TlsAsync(
        PostgreSqlSettings settings,
        CancellationToken cancellation
    )
    {
        await using var link = await ReplicationLink.ConnectAsync(settings, cancellation);
        var checkedWord =
            settings.Tls == TlsMode.Verify ? "encrypted, the certificate is accepted" : "encrypted, the certificate is not looked at";
        return (true, link.Encrypted ? checkedWord : "not encrypted", settings.Tls.ToString().ToLowerInvariant(), null);
    }

    private static async Task<bool> SignInAsync(
        PostgreSqlDatabase database,
        List<ReadinessCheck> checks,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        var settings = database.Settings;
        var began = clock.GetTimestamp();
        NpgsqlConnection connection;
        try
        {
            connection = await database.OpenAsync(cancellation);
        }
        catch (PortException exception)
        {
            var answer = exception.InnerException as PostgresException;
            var step = answer?.SqlState is "3D000" or "42501" ? "database" : "sign-in";
            if (step == "database")
            {
                checks.Add(new ReadinessCheck("sign-in", true, $"as {settings.User}", "accepted", null, clock.GetElapsedTime(began)));
            }

            checks.Add(
                new ReadinessCheck(
                    step,
                    false,
                    answer is null ? exception.Message : $"{answer.MessageText} (SQLSTATE {answer.SqlState})",
                    "accepted",
                    exception.Remedy,
                    clock.GetElapsedTime(began)
                )
            );
            return false;
        }

        await using (connection)
        {
            checks.Add(new ReadinessCheck("sign-in", true, $"as {settings.User}", "accepted", null, clock.GetElapsedTime(began)));
            checks.Add(new ReadinessCheck("database", true, settings.Database, "there", null, TimeSpan.Zero));
            return await StepAsync("version", checks, clock, () => VersionAsync(connection, cancellation))
                && await StepAsync("clock", checks, clock, () => ClockAsync(connection, clock, cancellation))
                && await StepAsync("rights", checks, clock, () => RightsAsync(connection, cancellation));
        }
    }

    private static async Task<(bool Ok, string Found, string Needed, string? Remedy)> VersionAsync(
        NpgsqlConnection connection,
        CancellationToken cancellation
    )
    {
        var number = int.Parse((await ScalarAsync(connection, "SHOW server_version_num", cancellation))!, CultureInfo.InvariantCulture);
        return (number >= OldestVersion, $"PostgreSQL {connection.ServerVersion}", "12 or later", "Use a newer server.");
    }

    private static async Task<(bool Ok, string Found, string Needed, string? Remedy)> ClockAsync(
        NpgsqlConnection connection,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        var before = clock.GetUtcNow();
        var seconds = double.Parse(
            (await ScalarAsync(connection, "SELECT extract(epoch FROM clock_timestamp())::text", cancellation))!,
            CultureInfo.InvariantCulture
        );
        var after = clock.GetUtcNow();
        var middle = before + ((after - before) / 2);
        var difference = DateTimeOffset.UnixEpoch.AddSeconds(seconds) - middle;
        var small = difference.Duration() < TimeSpan.FromSeconds(1);
        return (
            true,
            small
                ? $"differs by {Figures.Duration(difference.Duration())}"
                : $"{Figures.Duration(difference.Duration())} {(difference > TimeSpan.Zero ? "ahead of" : "behind")} ours; lag takes "
                    + "it into account",
            "any",
            null
        );
    }

    private static async Task<(bool Ok, string Found, string Needed, string? Remedy)> RightsAsync(
        NpgsqlConnection connection,
        CancellationToken cancellation
    )
    {
        await using var command = new NpgsqlCommand(
            "SELECT rolsuper, rolreplication, has_database_privilege(current_database(), 'CREATE') FROM pg_roles WHERE rolname = "
                + "current_user",
            connection
        );
        await using var reader = await command.ExecuteReaderAsync(cancellation);
        await reader.ReadAsync(cancellation);
        var words = new List<string>();
        if (reader.GetBoolean(0))
        {
            words.Add("superuser");
        }

        if (reader.GetBoolean(1))
        {
            words.Add("may read the log");
        }

        if (reader.GetBoolean(2))
        {
            words.Add("may create schemas");
        }

        return (true, words.Count == 0 ? "may connect" : string.Join(", ", words), "as the role needs; see below", null);
    }

    private static async Task<string?> ScalarAsync(NpgsqlConnection connection, string sql, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(sql, connection);
        return (string?)await command.ExecuteScalarAsync(cancellation);
    }
}
