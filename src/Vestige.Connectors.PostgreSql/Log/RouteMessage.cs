using Npgsql;
using Vestige.Core.Routes;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>
/// The message that stands before the rows of a transaction that was applied here, and tells where they came from (PostgreSQL manual,
/// pg_logical_emit_message; given to readers from version 14 on).
/// </summary>
internal static class RouteMessage
{
    public const string Prefix = "vestige.route";

    public static NpgsqlBatchCommand Telling(Route route)
    {
        var command = new NpgsqlBatchCommand("SELECT pg_logical_emit_message(true, $1, $2)");
        command.Parameters.Add(PostgreSqlDatabase.Text(Prefix));
        command.Parameters.Add(PostgreSqlDatabase.Text(route.ToString()));
        return command;
    }

    /// <summary>Whether the role may write it.</summary>
    public static async Task<bool> IsPossibleAsync(NpgsqlConnection connection, CancellationToken cancellation)
    {
        await using var command = new NpgsqlCommand(
            "SELECT has_function_privilege('pg_logical_emit_message(boolean, text, text)', 'EXECUTE')",
            connection
        );
        return (bool)(await command.ExecuteScalarAsync(cancellation))!;
    }
}
