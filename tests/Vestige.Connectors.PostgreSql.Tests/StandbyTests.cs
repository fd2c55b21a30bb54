using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Log order is not visibility order: a commit that waits for a synchronous standby is in the log, and nobody sees it yet
/// (PostgreSQL manual, synchronous_commit).
/// </summary>
public sealed class StandbyTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Commits_that_wait_for_a_standby_are_neither_lost_nor_doubled_by_following_or_loading()
    {
        await using var server = await Cluster.StartAsync();
        var (a, b) = (await server.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t SELECT i, 'before' FROM generate_series(1, 20000) i");
        await a.RunAsync($"ALTER ROLE {Cluster.Dba} SET synchronous_commit = local");
        await a.RunAsync("ALTER SYSTEM SET synchronous_standby_names = 'nobody'");
        await a.RunAsync("SELECT pg_reload_conf()");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();

        var first = WaitingAsync(
            a,
            "UPDATE t SET v = 'waits' WHERE id = 7; INSERT INTO t VALUES (0, 'waits too'); DELETE FROM t WHERE id = 8"
        );
        await SeenWaitingAsync(a, 1);
        await a.RunAsync("UPDATE t SET v = 'after' WHERE id = 11");
        await crossing.UntilAsync(() => b.PollAsync("SELECT v FROM t WHERE id = 11").Result == "after", "a later change");
        Assert.Equal("before", await a.AskAsync("SELECT v FROM t WHERE id = 7"));
        Assert.Equal("waits", await b.AskAsync("SELECT v FROM t WHERE id = 7"));

        // A load's slot comes into being only when the commits that wait have ended: its snapshot shows all that lies before it.
        await crossing.Engine.ReloadAsync(Crossing.Name, [new TableName("public", "t")], "test", cancellation);
        var second = WaitingAsync(a, "UPDATE t SET v = 'waits' WHERE id = 9; DELETE FROM t WHERE id = 10");
        await SeenWaitingAsync(a, 2);
        await a.RunAsync("ALTER SYSTEM RESET synchronous_standby_names");
        await a.RunAsync("SELECT pg_reload_conf()");
        await Task.WhenAll(first, second);
        await crossing.SameAsync("t");
        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
    }

    private static async Task WaitingAsync(Database database, string statements)
    {
        await using var connection = await database.OpenAsync();
        await using var command = new Npgsql.NpgsqlCommand("SET synchronous_commit = on", connection);
        await command.ExecuteNonQueryAsync();
        command.CommandText = statements;
        command.CommandTimeout = 120;
        await command.ExecuteNonQueryAsync();
    }

    private async Task SeenWaitingAsync(Database database, int sessions)
    {
        while (await database.AskAsync("SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'SyncRep'") != $"{sessions}")
        {
            await Task.Delay(20, cancellation);
        }
    }
}
