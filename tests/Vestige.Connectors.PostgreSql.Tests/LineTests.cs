using Vestige.Connectors.PostgreSql.Tests.Servers;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Bad lines between Vestige and the servers, during load and follow.</summary>
public sealed class LineTests(TwoServers servers, ITestOutputHelper output)
{
    private static readonly string[] Bank = ["pgbench_accounts", "pgbench_tellers", "pgbench_branches", "pgbench_history"];
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Lines_that_are_cut_and_slow_lose_and_double_nothing()
    {
        var seed = Environment.TickCount;
        output.WriteLine($"seed {seed}");
        var random = new Random(seed);
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await BankAsync(a);
        await using var near = new Line(servers.A.Port);
        await using var far = new Line(servers.B.Port);
        await using var crossing = await CrossAsync(a, b, near, far);
        var load = servers.A.ProgramAsync("pgbench", "-n", "-c", "2", "-T", "12", a.Name);
        while (!load.IsCompleted)
        {
            await Task.Delay(random.Next(100, 900), cancellation);
            var line = random.Next(2) == 0 ? near : far;
            line.Delay = random.Next(3) == 0 ? random.Next(1, 20) : 0;
            if (random.Next(3) > 0)
            {
                line.Cut();
            }
        }

        await load;
        near.Delay = far.Delay = 0;
        await crossing.SameAsync(Bank);
        Assert.Null(crossing.Status.Fault);
        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
    }

    /// <summary>Nothing arrives and nothing is cut: as a firewall does it that has forgotten the connection.</summary>
    [Fact]
    public async Task A_silent_line_is_not_taken_for_a_quiet_database()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'a')");
        await using var near = new Line(servers.A.Port);
        await using var far = new Line(servers.B.Port);
        await using var crossing = await CrossAsync(a, b, near, far);
        await crossing.FollowsAsync();
        await crossing.UntilAsync(() => crossing.Status.Lag is { Current: true }, "being current");
        near.GoSilent();
        await a.RunAsync("UPDATE t SET v = 'unheard'");
        await crossing.UntilAsync(() => crossing.Status.Lag is { Current: false, AtLeast: true }, "a doubt");
        await crossing.UntilAsync(() => crossing.Status.Capture?.Waiting is not null, "a message");
        Assert.Contains("no answer in 10 s", crossing.Status.Capture!.Waiting, StringComparison.Ordinal);
        Assert.True(crossing.Status.Lag is { AtLeast: true, Behind.TotalSeconds: > 5 }, $"{crossing.Status.Lag}");
        near.Sound();
        await crossing.SameAsync("t");
    }

    private async Task BankAsync(Database database)
    {
        await servers.A.ProgramAsync("pgbench", "-i", "-q", "-s", "1", database.Name);
        await database.RunAsync("ALTER TABLE pgbench_history ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY");
    }

    private static async Task<Crossing> CrossAsync(Database from, Database to, Line near, Line far)
    {
        var crossing = new Crossing(
            from,
            to,
            new PostgreSqlConnector(from.Settings() with { Port = near.Port }, from.Names, TimeProvider.System),
            new PostgreSqlConnector(to.Settings() with { Port = far.Port }, to.Names, TimeProvider.System)
        );
        await crossing.BeginAndRunAsync();
        return crossing;
    }
}
