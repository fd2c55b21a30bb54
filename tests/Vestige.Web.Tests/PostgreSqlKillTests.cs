using System.Globalization;
using System.Net.Http.Json;
using System.Text.Json;
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
        var (seed, kills) = Begin();
        var random = new Random(seed);
        await using var first = await Cluster.StartAsync();
        await using var second = await Cluster.StartAsync();
        var (a, b) = (await first.MakeDatabaseAsync(), await second.MakeDatabaseAsync());
        await using var vestige = await SetUpAsync(a, b, []);
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
        await SameAsync(vestige, a, b, $"seed {seed}");
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

    /// <summary>
    /// Killed within moments of changes of its tables, a change is done to the copy once, together with the rows that follow it. What comes
    /// while the process is away is seen at one look; where the source records its changes, no table is held.
    /// </summary>
    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task Killed_within_a_change_of_a_table_it_has_all_of_it_or_nothing(bool isRecorded)
    {
        var (seed, twice) = Begin();
        var kills = (twice + 1) / 2;
        var random = new Random(seed);
        await using var first = await Cluster.StartAsync();
        await using var second = await Cluster.StartAsync();
        var (a, b) = (await first.MakeDatabaseAsync(), await second.MakeDatabaseAsync());
        await using var vestige = await SetUpAsync(a, b, [new { tables = "*", @as = "carry", kinds = new[] { "columnDropped" } }]);
        await (isRecorded ? a.RecordSchemaChangesAsync() : Task.CompletedTask);
        await vestige.PostAsync("/api/v1/crossings/c/start");
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following");
        var load = first.ProgramAsync("pgbench", "-n", "-c", "2", "-R", "200", "-T", "120", a.Name);
        var columns = new List<string>();
        for (var i = 0; i < kills; i++)
        {
            // A column that is renamed twice between two looks has a name for a while that nobody has seen, and holds the table.
            var old = isRecorded ? columns : [.. columns];
            foreach (var _ in Enumerable.Range(0, 1 + random.Next(2)))
            {
                await a.RunAsync(Change(random, old, columns, i));
                await Task.Delay(random.Next(400), cancellation);
            }

            vestige.Kill();
            await vestige.LaunchAsync();
            await Task.Delay(random.Next(100, 1500), cancellation);
        }

        await a.RunAsync("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'pgbench'");
        await Task.WhenAny(load);
        await vestige.WaitAsync("c", status => status.GetProperty("state").GetString() == "following", "following");

        // What follows the last change in the log, so that a table which that change holds is held before it is asked which are.
        await a.RunAsync(
            "UPDATE pgbench_accounts SET abalance = abalance + 1 WHERE aid = 9; UPDATE pgbench_tellers SET tbalance = tbalance + 1"
        );
        await SameAsync(vestige, a, b, "pgbench_tellers", $"seed {seed}");
        Assert.Equal(0, await ReloadHeldAsync(vestige, seed) * (isRecorded ? 1 : 0));
        await SameAsync(vestige, a, b, $"seed {seed}");
        Assert.Equal(await a.AskAsync(Columns), await b.AskAsync(Columns));
    }

    /// <summary>
    /// What nobody could see, as a column that had a name between two looks only, holds its table with the cause; it is loaded again then.
    /// </summary>
    private async Task<int> ReloadHeldAsync(RunningVestige vestige, int seed)
    {
        var held = 0;
        await vestige.WaitAsync(
            "c",
            status => status.GetProperty("tables").EnumerateArray().All(table => StateOf(table) is "following" or "held"),
            "no table catching up"
        );
        foreach (var table in (await vestige.StatusAsync("c")).GetProperty("tables").EnumerateArray())
        {
            if (StateOf(table) == "held")
            {
                held++;
                var name = table.GetProperty("source").GetString();
                TestContext.Current.SendDiagnosticMessage($"seed {seed}: {name} is held: {table.GetProperty("cause")}");
                Assert.Contains("changed", table.GetProperty("cause").GetString(), StringComparison.Ordinal);
                await vestige.PostAsync("/api/v1/crossings/c/reload", new { tables = new[] { name }, inPlace = true });
            }
        }

        await vestige.WaitAsync(
            "c",
            status => status.GetProperty("tables").EnumerateArray().All(table => StateOf(table) == "following"),
            "all tables following"
        );
        return held;
    }

    private static string? StateOf(JsonElement table) => table.GetProperty("state").GetString();

    private const string Columns = """
        SELECT string_agg(concat_ws(' ', attname, format_type(atttypid, atttypmod)), ', ' ORDER BY attname) FROM pg_attribute
        WHERE attrelid = 'pgbench_accounts'::regclass AND attnum > 0 AND NOT attisdropped
        """;

    /// <summary>A change after which earlier and later rows can be distinguished, whatever came with it.</summary>
    private static string Change(Random random, List<string> from, List<string> columns, int number)
    {
        var name = $"c{number}_{random.Next(1_000_000)}";
        if (from.Count == 0 || random.Next(2) == 0)
        {
            columns.Add(name);
            return random.Next(3) switch
            {
                0 => $"ALTER TABLE pgbench_accounts ADD COLUMN {name} int",
                1 => $"ALTER TABLE pgbench_accounts ADD COLUMN {name} int NOT NULL DEFAULT {number}",
                _ => $"BEGIN; UPDATE pgbench_accounts SET abalance = 0 WHERE aid < 9; ALTER TABLE pgbench_accounts ADD COLUMN {name} text "
                    + $"DEFAULT 'it''s {number}'; UPDATE pgbench_accounts SET {name} = 'later' WHERE aid < 5; COMMIT",
            };
        }

        var old = from[random.Next(from.Count)];
        from.Remove(old);
        columns.Remove(old);
        if (random.Next(2) == 0)
        {
            return $"ALTER TABLE pgbench_accounts DROP COLUMN {old}";
        }

        columns.Add(name);
        return $"ALTER TABLE pgbench_accounts RENAME COLUMN {old} TO {name}";
    }

    private static (int Seed, int Kills) Begin()
    {
        var kills = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_KILLS") ?? "4", CultureInfo.InvariantCulture) * 5 / 6;
        var seed = Environment.TickCount;
        TestContext.Current.SendDiagnosticMessage($"seed {seed}, {kills} kills");
        return (seed, kills);
    }

    private async Task<RunningVestige> SetUpAsync(Database a, Database b, object[] schemaChanges)
    {
        await a.Cluster.ProgramAsync("pgbench", "-i", "-q", "-s", "10", "--foreign-keys", a.Name);
        await a.RunAsync("ALTER TABLE pgbench_history ADD COLUMN id bigserial PRIMARY KEY");
        var vestige = await RunningVestige.StartAsync("--empty", "true");
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
                schemaChanges,
            },
            cancellation
        );
        return vestige;
    }

    private async Task SameAsync(RunningVestige vestige, Database a, Database b, string what)
    {
        foreach (var table in new[] { "pgbench_accounts", "pgbench_tellers", "pgbench_branches", "pgbench_history" })
        {
            await SameAsync(vestige, a, b, table, what);
        }
    }

    private async Task SameAsync(RunningVestige vestige, Database a, Database b, string table, string what)
    {
        var wanted = await a.DigestAsync(table);
        var until = DateTimeOffset.UtcNow.AddSeconds(180);
        while (await b.DigestAsync(table) is var found && found != wanted)
        {
            if (DateTimeOffset.UtcNow >= until)
            {
                var (source, target) = (await FewAsync(a, table), await FewAsync(b, table));
                var states = (await vestige.StatusAsync("c")).GetProperty("tables");
                Assert.Fail($"{what}: {table} differs: {wanted} and {found}; {source} against {target}; {states}");
            }

            await Task.Delay(100, cancellation);
        }
    }

    /// <summary>The columns of a table in their order, and the first rows, as a message of a difference shows them.</summary>
    private static async Task<string> FewAsync(Database database, string table)
    {
        var columns = await database.AskAsync(
            $"SELECT string_agg(attname, ', ' ORDER BY attnum) FROM pg_attribute WHERE attrelid = '{table}'::regclass AND attnum > 0 "
                + "AND NOT attisdropped"
        );
        var rows = await database.AskAsync($"SELECT string_agg(t::text, ' ') FROM (SELECT * FROM {table} ORDER BY 1 LIMIT 12) t");
        return $"({columns}) {rows}";
    }
}
