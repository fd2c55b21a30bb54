using Npgsql;

namespace Vestige.Connectors.PostgreSql;

/// <summary>Ends what may be broken already.</summary>
internal static class Closing
{
    /// <summary>
    /// Closes a connection. The driver tidies up first, and fails when the connection is gone; then there is nothing left to tidy,
    /// and what made someone close it must not be hidden by that.
    /// </summary>
    public static ValueTask CloseAsync(NpgsqlConnection connection) => TryAsync(() => connection.DisposeAsync());

    /// <summary>Rolls back what a connection has begun.</summary>
    public static ValueTask RollBackAsync(NpgsqlConnection connection) =>
        TryAsync(async () =>
        {
            await using var rollback = new NpgsqlCommand("ROLLBACK", connection);
            await rollback.ExecuteNonQueryAsync();
        });

    public static async ValueTask TryAsync(Func<ValueTask> end)
    {
        try
        {
            await end();
        }
        catch (Exception exception) when (Failures.IsServers(exception) || exception is InvalidOperationException)
        {
            // The line is gone, and with it the transaction.
        }
    }
}
