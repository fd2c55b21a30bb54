using Npgsql;

namespace Vestige.Connectors.PostgreSql.Tests.Servers;

/// <summary>Random changes of rows of a table t and of those in c that refer to it.</summary>
internal static class RowWalk
{
    /// <summary>What violates a key is rolled back by the server, and is none of ours.</summary>
    public static async Task TryAsync(Database database, string transaction)
    {
        try
        {
            await database.RunAsync(transaction);
        }
        catch (PostgresException exception) when (exception.SqlState is "23505" or "23503") { }
    }

    /// <summary>A transaction of some statements, with savepoints, moved keys and large values.</summary>
    public static string Transaction(Random random) =>
        $"BEGIN; {string.Concat(Enumerable.Range(0, 1 + random.Next(4)).Select(_ => Statement(random)))} COMMIT";

    private static string Statement(Random random)
    {
        var (one, two) = (random.Next(60), random.Next(60));
        return random.Next(8) switch
        {
            0 => "INSERT INTO t SELECT i, i + 1000, 'it''s ' || i, repeat('big', 2000) FROM "
                + $"generate_series({one}, {one + 3}) i ON CONFLICT DO NOTHING;",
            1 => $"UPDATE t SET v = 'new {two}' WHERE id = {one};",
            2 => $"UPDATE t SET id = {two} WHERE id = {one};",
            3 => $"DELETE FROM t WHERE id IN ({one}, {two});",
            4 => $"UPDATE t SET u = NULL WHERE id = {one}; UPDATE t SET u = {two + 1000} WHERE id = {one};",
            5 => $"UPDATE t SET big = repeat('x', {two * 100}) WHERE id = {one};",
            6 => $"INSERT INTO c SELECT {two}, id, 1.5 FROM t WHERE id = {one} ON CONFLICT (id) DO UPDATE SET w = c.w + 1;",
            _ => $"SAVEPOINT s; DELETE FROM t WHERE id < {one / 4}; ROLLBACK TO s;",
        };
    }
}
