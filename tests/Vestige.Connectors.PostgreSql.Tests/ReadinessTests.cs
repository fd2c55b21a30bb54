using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>The ladder, what a server lacks, and the script that repairs it.</summary>
public sealed class ReadinessTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Each_rung_of_the_ladder_is_climbed_or_named()
    {
        var a = await servers.A.MakeDatabaseAsync();
        Assert.Equal(
            ["name", "TCP", "TLS", "sign-in", "database", "version", "clock", "rights"],
            await StepsAsync(a.Settings(), allOk: true)
        );
        Assert.Equal(["name"], await StepsAsync(a.Settings() with { Host = "no-such-host.invalid" }, allOk: false));
        Assert.Equal(["name", "TCP"], await StepsAsync(a.Settings() with { Port = 1 }, allOk: false));
        Assert.Equal(["name", "TCP", "TLS"], await StepsAsync(a.Settings() with { Tls = TlsMode.Require }, allOk: false));
        Assert.Equal(["name", "TCP", "TLS", "sign-in"], await StepsAsync(a.Settings(password: "wrong"), allOk: false));
        Assert.Equal(
            ["name", "TCP", "TLS", "sign-in", "database"],
            await StepsAsync(a.Settings() with { Database = "nowhere" }, allOk: false)
        );
    }

    [Fact]
    public async Task A_setting_that_waits_for_a_restart_is_said_to_wait()
    {
        await using var server = await Cluster.StartAsync("wal_level=replica");
        var a = await server.MakeDatabaseAsync();
        var line = await LineAsync(a.Source(), "wal_level");
        Assert.False(line.Ok);
        Assert.Equal("replica is in force", line.Found);
        Assert.Contains("ALTER SYSTEM SET wal_level", line.Remedy, StringComparison.Ordinal);
        await a.RunAsync("ALTER SYSTEM SET wal_level = 'logical'");
        await a.RunAsync("SELECT pg_reload_conf(); SELECT pg_sleep(0.5)");
        line = await LineAsync(a.Source(), "wal_level");
        Assert.False(line.Ok);
        Assert.Contains(
            "replica is in force; another value, logical, is set and waits for a restart",
            line.Found,
            StringComparison.Ordinal
        );
        Assert.Equal("Restart the server.", line.Remedy);
        await server.HaltAsync(immediate: false);
        await server.BootAsync();
        Assert.True((await LineAsync(a.Source(), "wal_level")).Ok);
    }

    [Fact]
    public async Task What_the_log_says_of_the_row_before_is_told_by_table()
    {
        var a = await servers.A.MakeDatabaseAsync();
        await a.RunAsync(
            "CREATE TABLE k (id int PRIMARY KEY); CREATE TABLE f (id int PRIMARY KEY); ALTER TABLE f REPLICA IDENTITY FULL; CREATE "
                + "TABLE n (v text); ALTER TABLE n REPLICA IDENTITY FULL"
        );
        await using var source = a.Source();
        TableName[] tables = [TableName.Parse("public.k"), TableName.Parse("public.f"), TableName.Parse("public.n")];
        var line = (await source.CheckSourceAsync(tables, cancellation)).Single(line => line.Step == "replica identity");
        Assert.DoesNotContain(await source.CheckSourceAsync([], cancellation), line => line.Step == "large objects");
        await a.RunAsync("SELECT lo_from_bytea(0, 'made up')");
        Assert.Contains(
            "1 in the database",
            (await source.CheckSourceAsync([], cancellation)).Single(line => line.Step == "large objects").Found,
            StringComparison.Ordinal
        );
        Assert.Matches("1 table by key: .*1 table with a key by the whole row.*1 table without a key", line.Found);
    }

    [Theory]
    [InlineData(
        "CREATE TRIGGER twice AFTER INSERT ON t FOR EACH ROW EXECUTE FUNCTION again(); ALTER TABLE t ENABLE ALWAYS TRIGGER twice",
        false,
        "trigger twice"
    )]
    [InlineData("CREATE TRIGGER twice AFTER INSERT ON t FOR EACH ROW EXECUTE FUNCTION again()", true, "")]
    [InlineData("CREATE RULE away AS ON INSERT TO t DO INSTEAD NOTHING; ALTER TABLE t ENABLE ALWAYS RULE away", false, "rule away")]
    public async Task Triggers_and_rules_that_would_act_on_applied_rows_are_named_before_the_start(string made, bool ok, string named)
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY)");
        await b.RunAsync(
            "CREATE TABLE t (id int PRIMARY KEY); CREATE FUNCTION again() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; "
                + $"END'; {made}"
        );
        await using var source = a.Source();
        await using var target = b.Target();
        var form = (await source.ReadTablesAsync(cancellation)).Single().Schema;
        var lines = await target.CheckTargetAsync(
            [form],
            new Dictionary<TableName, ExistingRows>(),
            new HashSet<TableName>(),
            cancellation
        );
        Assert.True(lines.Single(line => line.Step == "target table public.t").Ok);
        var firing = lines.SingleOrDefault(line => line.Step == "triggers of public.t");
        Assert.Equal(ok, firing is null);
        Assert.Contains(named, firing?.Found ?? "", StringComparison.Ordinal);
        Assert.True(firing is null || Judged(firing).Ok);
    }

    /// <summary>Accepted by name; what may not be accepted does not hold for all that.</summary>
    private static ReadinessCheck Judged(ReadinessCheck line)
    {
        var definition = new CrossingDefinition(
            "c",
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([]),
            new StartOptions(Accept: [line.Step])
        );
        Assert.False(definition.Judge(line with { MayAccept = false }).Ok);
        return definition.Judge(line);
    }

    [Fact]
    public async Task The_script_turns_every_line_to_ok_and_its_undo_leaves_the_server_as_before()
    {
        await using var server = await Cluster.StartAsync();
        var a = await server.MakeDatabaseAsync("shop");
        await a.RunAsync(
            "CREATE ROLE reader LOGIN PASSWORD 'made-up'; CREATE SCHEMA stock; CREATE TABLE stock.item (id int PRIMARY KEY, v text); "
                + "CREATE TABLE stock.secret (id int PRIMARY KEY); CREATE TABLE public.plain (id int PRIMARY KEY); CREATE TABLE "
                + "stock.bare (id int); GRANT SELECT ON stock.bare TO reader; INSERT INTO stock.item VALUES (1, 'a')"
        );
        var before = await DumpAsync(server);
        var connector = new PostgreSqlConnector(a.Settings("reader", "made-up"), a.Names, TimeProvider.System);
        TableName[] tables = [TableName.Parse("stock.item"), TableName.Parse("public.plain")];
        var missing = (await connector.Source.Log.CheckSourceAsync(tables, cancellation))
            .Where(line => !line.Ok)
            .Select(line => line.Step)
            .Order(StringComparer.Ordinal)
            .ToList();
        Assert.Equal(["right to publish the tables", "right to read the log", "table public.plain", "table stock.item"], missing);
        var made = await connector.PrepareSourceAsync(tables, cancellation);
        await a.RunAsync(made.Script);
        await a.RunAsync(made.Script);
        Assert.All(await connector.Source.Log.CheckSourceAsync(tables, cancellation), line =>
            Assert.True(line.Ok, $"{line.Step}: {line.Found}")
        );

        // The function does that one thing and nothing else.
        await using var reader = new PostgreSqlSource(a.Settings("reader", "made-up"), a.Names, TimeProvider.System);
        await reader.BeginLogAsync(cancellation);
        await using (
            await reader.OpenLogAsync(
                LogRequest.First((await reader.BeginLogAsync(cancellation)).Position, tables.ToHashSet()),
                cancellation
            )
        )
        {
            Assert.Equal("item,plain", await a.AskAsync("SELECT string_agg(tablename, ',' ORDER BY tablename) FROM pg_publication_tables"));
        }

        foreach (
            var call in new[]
            {
                "vestige.carry('vestige_x', ARRAY['stock'], ARRAY['secret'])",
                "vestige.carry('other', ARRAY['stock'], ARRAY['item'])",
                "vestige.carry('vestige_x; DROP', ARRAY['stock'], ARRAY['item'])",
            }
        )
        {
            var refused = await Assert.ThrowsAsync<Engine.Faults.PortException>(() =>
                reader.RunAsync("Trying", [$"SELECT {call}"], cancellation)
            );
            Assert.Contains("42501", refused.Message, StringComparison.Ordinal);
        }

        var unfindable = await Assert.ThrowsAsync<Engine.Faults.PortException>(() =>
            reader.RunAsync("Trying", ["SELECT vestige.carry('vestige_x', ARRAY['stock'], ARRAY['bare'])"], cancellation)
        );
        Assert.Contains("only its inserts", unfindable.Message, StringComparison.Ordinal);
        await reader.EndLogAsync(cancellation);
        await a.RunAsync((await connector.PrepareSourceAsync(tables, cancellation)).Undo);
        Assert.Equal(before, await DumpAsync(server));
        await connector.DisposeAsync();
    }

    [Fact]
    public async Task With_the_scripts_of_both_sides_a_role_with_least_rights_can_load_and_follow()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            $"CREATE ROLE r_{a.Name} LOGIN PASSWORD 'made-up'; CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, "
                + "'a'); CREATE TABLE u (id int PRIMARY KEY); INSERT INTO u VALUES (1)"
        );
        await b.RunAsync($"CREATE ROLE r_{a.Name} LOGIN PASSWORD 'made-up'");
        var from = new PostgreSqlConnector(a.Settings($"r_{a.Name}", "made-up"), a.Names, TimeProvider.System);
        var to = new PostgreSqlConnector(b.Settings($"r_{a.Name}", "made-up"), b.Names, TimeProvider.System);
        await a.RunAsync((await from.PrepareSourceAsync([TableName.Parse("public.t"), TableName.Parse("public.u")], cancellation)).Script);
        await b.RunAsync((await to.PrepareTargetAsync(cancellation)).Script);
        await b.RunAsync((await to.PrepareTargetAsync(cancellation)).Script);
        await using var crossing = new Crossing(a, b, from, to);
        await crossing.BeginAndRunAsync();
        await crossing.FollowsAsync();
        await a.RunAsync("UPDATE t SET v = 'b'; INSERT INTO t VALUES (2, 'c')");
        await crossing.SameAsync("t");

        // A table that was dropped and created again lacks the grant. The load is refused before anything stops; the other table keeps
        // following.
        await a.RunAsync("DROP TABLE t; CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (7, 'new')");
        await crossing.UntilAsync(() => crossing.Status.Tables.Any(table => table.State == TableState.Held), "the table being held");
        var refused = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            crossing.Engine.ReloadAsync(Crossing.Name, [TableName.Parse("public.t")], "test", cancellation)
        );
        Assert.Contains("public.t", refused.Message, StringComparison.Ordinal);
        Assert.Contains("preparation", refused.Remedy, StringComparison.OrdinalIgnoreCase);
        await a.RunAsync("INSERT INTO u VALUES (2)");
        await crossing.SameAsync("u");
        await a.RunAsync($"GRANT SELECT ON t TO r_{a.Name}");
        await crossing.Engine.ReloadAsync(Crossing.Name, [TableName.Parse("public.t")], "test", cancellation);
        await crossing.SameAsync("t", "u");
    }

    [Fact]
    public async Task What_cannot_cross_comes_with_the_reason()
    {
        var a = await servers.A.MakeDatabaseAsync();
        await a.RunAsync(
            """
            CREATE TABLE good (id int PRIMARY KEY);
            CREATE TABLE keyless (v text);
            CREATE UNLOGGED TABLE unlogged (id int PRIMARY KEY);
            CREATE VIEW seen AS SELECT 1 AS one;
            CREATE MATERIALIZED VIEW kept AS SELECT 1 AS one;
            CREATE TABLE nothing (id int PRIMARY KEY);
            ALTER TABLE nothing REPLICA IDENTITY NOTHING;
            CREATE TABLE parts (id int PRIMARY KEY) PARTITION BY RANGE (id); CREATE TABLE parts_1 PARTITION OF parts FOR VALUES
                FROM (0) TO (9); CREATE TABLE parts_2 PARTITION OF parts FOR VALUES FROM (10) TO (19) PARTITION BY RANGE (id);
            """
        );
        await using var source = a.Source();
        var described = await source.ReadTablesAsync(cancellation);
        Assert.Equal(TableName.Parse("public.parts"), described.Single(table => table.Schema.Name.Name == "parts_1").PartOf);
        var tables = described.ToDictionary(table => table.Schema.Name.Name, table => table.Reason);
        Assert.Equal(["good", "parts", "parts_1"], tables.Where(table => table.Value is null).Select(table => table.Key).Order());
        Assert.Contains("no primary key", tables["keyless"], StringComparison.Ordinal);
        Assert.Contains("unlogged", tables["unlogged"], StringComparison.Ordinal);
        Assert.Contains("view", tables["seen"], StringComparison.Ordinal);
        Assert.Contains("materialised", tables["kept"], StringComparison.Ordinal);
        Assert.Contains("replica identity is nothing", tables["nothing"], StringComparison.Ordinal);
        Assert.Contains("a level of", tables["parts_2"], StringComparison.Ordinal);
    }

    /// <summary>Everything the server has, as its own tool writes it; the marks that it draws by lot apart.</summary>
    private static async Task<string> DumpAsync(Cluster server) =>
        string.Join('\n', (await server.ProgramAsync("pg_dumpall")).Split('\n').Where(line => !line.StartsWith('\\')));

    private async Task<List<string>> StepsAsync(PostgreSqlSettings settings, bool allOk)
    {
        await using var target = new PostgreSqlTarget(settings, TimeProvider.System);
        var lines = await target.TestAsync(cancellation);
        Assert.All(lines.Take(lines.Count - 1), line => Assert.True(line.Ok, $"{line.Step}: {line.Found}"));
        Assert.Equal(allOk, lines[^1].Ok);
        Assert.True(allOk || !string.IsNullOrEmpty(lines[^1].Remedy), lines[^1].Step);
        return [.. lines.Select(line => line.Step)];
    }

    private async Task<ReadinessCheck> LineAsync(PostgreSqlSource source, string step)
    {
        await using (source)
        {
            return (await source.CheckSourceAsync([], cancellation)).Single(line => line.Step == step);
        }
    }
}
