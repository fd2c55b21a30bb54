using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Tables of which only inserts cross: those without a replica identity can cross in no other way.</summary>
public sealed class InsertOnlyTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Theory]
    [InlineData("CREATE TABLE t (id int, v text)")]
    [InlineData("CREATE TABLE t (id int PRIMARY KEY, v text); ALTER TABLE t REPLICA IDENTITY NOTHING")]
    [InlineData("CREATE TABLE t (id int PRIMARY KEY, v text)")]
    [InlineData("CREATE TABLE t (id int, v text) PARTITION BY RANGE (id); CREATE TABLE t_1 PARTITION OF t FOR VALUES FROM (0) TO (100000)")]
    public async Task Only_inserts_arrive_and_the_source_can_still_update_and_delete(string create)
    {
        var (a, b) = await TwoAsync(create);
        await using var crossing = await StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync(
            "UPDATE t SET v = 'changed' WHERE id = 1; DELETE FROM t WHERE id = 2; INSERT INTO t VALUES (11, 'new'); INSERT INTO whole "
                + "VALUES (6, 'six'); UPDATE whole SET v = 'changed' WHERE id = 1"
        );
        await crossing.SameAsync("whole");
        await crossing.UntilAsync(() => b.PollAsync("SELECT count(*) FROM t").GetAwaiter().GetResult() == "11", "the insert");
        await crossing.EndAsync();
        await a.RunAsync(
            "INSERT INTO t SELECT i, 'more' FROM generate_series(12, 500) i; UPDATE t SET v = v || '.'; TRUNCATE t; INSERT INTO t "
                + "VALUES (501, 'last'); DELETE FROM whole WHERE id = 2"
        );
        await crossing.BeginAsync();
        await crossing.SameAsync("whole");
        await crossing.UntilAsync(() => b.PollAsync("SELECT count(*) FROM t").GetAwaiter().GetResult() == "501", "the later inserts");
        Assert.Equal(
            "v1 v2 new more more last",
            await b.AskAsync("SELECT string_agg(v, ' ' ORDER BY id) FROM t WHERE id IN (1, 2, 11, 12, 500, 501)")
        );
        Assert.Equal(CrossingState.Following, crossing.Status.State);
    }

    [Fact]
    public async Task Without_saying_so_a_table_without_identity_is_refused_with_the_ways_round()
    {
        var (a, b) = await TwoAsync("CREATE TABLE t (id int, v text)");
        await using var crossing = await Crossing.DefineAsync(a, b, Definition());
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        var line = Assert.Single(refused.Checks, line => !line.Ok);
        Assert.Contains("take its inserts only", line.Remedy, StringComparison.Ordinal);
        Assert.Contains("REPLICA IDENTITY FULL", line.Found, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_table_that_gets_an_identity_later_is_not_taken_whole_before_all_its_changes_are_read()
    {
        var (a, b) = await TwoAsync("CREATE TABLE t (id int, v text)");
        await using var crossing = await StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync("ALTER TABLE t ADD PRIMARY KEY (id)");
        var lines = await crossing.Source("a").Log.CheckSourceAsync([new TableName("public", "t")], cancellation);
        var line = Assert.Single(lines, line => !line.Ok);
        Assert.StartsWith("ALTER PUBLICATION", line.Remedy, StringComparison.Ordinal);
        await a.RunAsync(line.Remedy!);
        Assert.DoesNotContain(await crossing.Source("a").Log.CheckSourceAsync([new TableName("public", "t")], cancellation), again =>
            !again.Ok
        );
    }

    private static CrossingDefinition Definition(params ApplyRule[] apply) =>
        new(Crossing.Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "public.*")]), Apply: apply);

    private static Task<Crossing> StartAsync(Database a, Database b) =>
        Crossing.StartAsync(a, b, Definition(new ApplyRule("*.t", ApplyMode.InsertOnly)));

    private async Task<(Database From, Database To)> TwoAsync(string create)
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            $"{create}; INSERT INTO t SELECT i, 'v' || i FROM generate_series(1, 10) i; CREATE TABLE whole (id int PRIMARY KEY, v "
                + "text); INSERT INTO whole SELECT i, 'v' || i FROM generate_series(1, 5) i"
        );
        return (a, b);
    }
}
