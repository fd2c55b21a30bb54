using System.Globalization;
using System.Net.Http.Json;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Xunit;

namespace Vestige.Web.Tests;

/// <summary>
/// The real process between two real servers, killed while it loads and follows. VESTIGE_KILLS sets how often (a third of it).
/// </summary>
public sealed class PostgreSqlKillTests
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Killed_at_any_moment_between_real_servers_it_loses_and_doubles_nothing()
    {
        var kills = Math.Max(
            6,
            int.Parse(Environment.GetEnvironmentVariable("VESTIGE_KILLS") ?? "8", CultureInfo.InvariantCulture) * 5 / 6
        );
        var seed = Environment.TickCount;
        TestContext.Current.SendDiagnosticMessage($"seed {seed}, {kills} kills");
        var random = new Random(seed);
        await using var first = await Cluster.StartAsync();
        await using var second = await Cluster.StartAsync();
        var (a, b) = (await first.MakeDatabaseAsync(), await second.MakeDatabaseAsync());
        await first.ProgramAsync("pgbench", "-i", "-q", "-s", "10", "--foreign-keys", a.Name);
        await a.RunAsync("ALTER TABLE pgbench_history ADD COLUMN id bigserial PRIMARY KEY");
        await using var vestige = await RunningVestige.StartAsync("--empty", "true");
        foreach (var (name, database) in new[] { ("a", a), ("b", b) })
        {
            var settings = new
            {
                host = "127.0.0.1",
                port = database.Cluster.Port.ToString(CultureInfo.InvariantCulture),
                database = database.Name,
                user = Cluster.Dba,
            };
            await vestige.PostAsync(
                "/api/v1/connections",
                new
                {
                    name,
                    kind = "postgresql",
                    settings,
                    secret = new { password = Cluster.Password },
                }
            );
        }

        await vestige.Http.PostAsJsonAsync(
            "/api/v1/crossings",
            new
            {
                name = "c",
                purpose = "copy",
                source = "a",
                target = "b",
                tables = new { rules = new[] { new { take = "public.*" } } },
            },
            cancellation
        );
        var load = first.ProgramAsync("pgbench", "-n", "-c", "2", "-R", "200", "-T", "120", a.Name);
        await vestige.PostAsync("/api/v1/crossings/c/start");
        for (var i = 0; i < kills; i++)
        {
            await Task.Delay(random.Next(50, i < kills / 3 ? 900 : 2500), cancellation);
            vestige.Kill();
            await vestige.LaunchAsync();
        }

        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following");
        await a.RunAsync("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'pgbench'");
        await Task.WhenAny(load);
        foreach (var table in new[] { "pgbench_accounts", "pgbench_tellers", "pgbench_branches", "pgbench_history" })
        {
            var wanted = await a.DigestAsync(table);
            var until = DateTimeOffset.UtcNow.AddSeconds(180);
            while (await b.DigestAsync(table) is var found && found != wanted)
            {
                Assert.True(DateTimeOffset.UtcNow < until, $"seed {seed}: {table} differs: {wanted} and {found}");
                await Task.Delay(100, cancellation);
            }
        }

        var unexpected = (await vestige.StatusAsync("c"))
            .GetProperty("tables")
            .EnumerateArray()
            .Sum(table => table.GetProperty("unexpected").GetProperty("missing").GetInt64());
        Assert.Equal(0, unexpected);
        var events = (await vestige.GetAsync("/api/v1/crossings/c/events?limit=200"))
            .EnumerateArray()
            .Select(happened => happened.GetProperty("text").GetString()!)
            .ToList();
        TestContext.Current.SendDiagnosticMessage(
            $"{events.Count(text => text.Contains("gone on with", StringComparison.Ordinal))} loads went on within a table"
        );
    }
}
