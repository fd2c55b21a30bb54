using System.Net.Sockets;
using Npgsql;
using Vestige.Engine.Faults;

namespace Vestige.Connectors.PostgreSql;

/// <summary>What a server or the connection to it answered, as what the engine understands (PostgreSQL manual, Error Codes).</summary>
internal static class Failures
{
    /// <summary>Classes in which waiting, or someone else's action, may help without the crossing being touched.</summary>
    private static readonly string[] TransientClasses = ["08", "25", "28", "40", "53", "55", "57", "58"];

    public static bool IsRefusal(PostgresException exception) =>
        exception.SqlState[..2] is "22" or "23" or "44" or "P0" or "09" or "21" or "27";

    /// <summary>
    /// Whether something that was looked at was dropped that very moment. A statement reads catalogue rows as of its beginning, but the
    /// functions that tell what a row means look at what is there now. Of an object that is gone they return null; of one that goes
    /// meanwhile they fail with an internal error, whose text is never translated (PostgreSQL manual, Reporting Errors Within the Server:
    /// elog; the messages as tried with PostgreSQL 17).
    /// </summary>
    public static bool IsOfMovedStructure(Exception? exception) =>
        exception is PostgresException { SqlState: PostgresErrorCodes.InternalError } answer
        && (
            answer.MessageText.StartsWith("could not open relation with OID", StringComparison.Ordinal)
            || answer.MessageText.StartsWith("cache lookup failed for", StringComparison.Ordinal)
        );

    public static PortException Of(Exception exception, string tried) =>
        exception switch
        {
            PortException known => known,
            PostgresException answer => new PortException(
                $"{tried}: {answer.MessageText} (SQLSTATE {answer.SqlState}).{Detail(answer)}",
                answer
            )
            {
                Transient = TransientClasses.Contains(answer.SqlState[..2]) || IsOfMovedStructure(answer),
                Remedy = Remedy(answer),
            },
            NpgsqlException { InnerException: { } inner } => new PortException($"{tried}: {inner.Message}", exception)
            {
                Transient = true,
                Remedy = LineRemedy,
            },
            NpgsqlException or SocketException or IOException or TimeoutException or ObjectDisposedException => new PortException(
                $"{tried}: {exception.Message}",
                exception
            )
            {
                Transient = true,
                Remedy = LineRemedy,
            },
            _ => new PortException($"{tried}: {exception.Message}", exception),
        };

    /// <summary>Whether an exception is one of the driver or of the connection, not of our own making.</summary>
    public static bool IsServers(Exception exception) =>
        exception
            is NpgsqlException
                or SocketException
                or IOException
                or TimeoutException
                or ObjectDisposedException
                or System.Security.Authentication.AuthenticationException;

    private const string LineRemedy = "Check the server and the network. Vestige retries automatically.";

    /// <summary>The server's hint, but for the one that would drop what others need.</summary>
    private static string Detail(PostgresException answer) =>
        string.IsNullOrEmpty(answer.Hint) || answer.SqlState == PostgresErrorCodes.DependentObjectsStillExist ? "" : $" {answer.Hint}";

    private static string Remedy(PostgresException answer) =>
        answer.SqlState switch
        {
            "28P01" or "28000" =>
                "Correct the user or the password of the connection, or the server's pg_hba.conf. Vestige retries automatically.",
            "3D000" => "Correct the database of the connection, or create it.",
            "42501" => "Give the role the right; the preparation script on the connection's page has the statements.",
            PostgresErrorCodes.DependentObjectsStillExist => "Drop what needs it there, such as a view, and try again.",
            "53100" => "Free space on the server's disk. Vestige retries automatically.",
            "53300" or "53400" => "Free connections, or raise the limit on the server. Vestige retries automatically.",
            "42P01" or "42703" => "Restore the table or column there, or load the table again.",
            "XX000" when IsOfMovedStructure(answer) => "Something was dropped while Vestige read it. Vestige retries automatically.",
            _ => "Fix it on the server.",
        };
}
