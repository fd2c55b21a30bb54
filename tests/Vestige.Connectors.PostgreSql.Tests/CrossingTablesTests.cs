using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Tables that come to a crossing at work and leave it, while others of it are written.</summary>
public sealed class CrossingTablesTests(TwoServers servers)
{
    private const string Tables = """
        CREATE TABLE parent (id int PRIMARY KEY, v text);
        CREATE TABLE child (id int PRIMARY KEY, p int REFERENCES parent, v text);
        CREATE TABLE other (id int PRIMARY KEY, v text);
        INSERT INTO parent SELECT i, 'p' FROM generate_series(1, 200) i;
        INSERT INTO child SELECT i, i, 'c' FROM generate_series(1, 200) i;
        """;

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>What refers to a dropped copy keeps its rows and follows; the reference comes again with the table.</summary>
    [Fact]
    public async Task A_table_leaves_with_its_copy_though_others_refer_to_it_and_comes_again()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await b.UntilAsync("SELECT count(*) FROM pg_constraint WHERE contype = 'f' AND conrelid = 'child'::regclass", "1");
        TableName[] parent = [new("public", "parent")];
        var removal = crossing.Engine.Tables.RemovalOf(Crossing.Name, parent);
        Assert.Equal(["DROP TABLE \"public\".\"parent\""], removal.Statements);

        await b.RunAsync("CREATE VIEW needs_it AS SELECT * FROM parent");
        var refused = await Assert.ThrowsAnyAsync<PortException>(() => RemoveAsync(crossing, parent, drops: true));
        Assert.Contains("other objects depend on it", refused.Message, StringComparison.Ordinal);
        await a.RunAsync("UPDATE parent SET v = 'continues'");
        await crossing.SameAsync("parent", "child", "other");

        await b.RunAsync("DROP VIEW needs_it");
        await RemoveAsync(crossing, parent, drops: true);
        Assert.Equal("", await b.AskAsync("SELECT to_regclass('parent')::text"));
        await a.RunAsync(
            "INSERT INTO parent VALUES (500, 'later'); INSERT INTO child VALUES (500, 500, 'later'); INSERT INTO other VALUES (1)"
        );
        await crossing.SameAsync("child", "other");

        await crossing.EndAsync();
        await crossing.BeginAsync();
        await crossing.Engine.Tables.AddAsync(Crossing.Name, parent, "test", null, cancellation);
        await crossing.UntilAsync(() => Is(crossing, "parent", TableState.Following), "parent");
        await a.RunAsync("DELETE FROM child WHERE id < 9; DELETE FROM parent WHERE id < 9");
        await crossing.SameAsync("parent", "child", "other");
        Assert.Null(crossing.Status.Fault);
    }

    [Fact]
    public async Task A_copy_that_is_kept_stays_as_it_is_and_one_that_holds_more_cannot_be_dropped()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(
            a,
            b,
            new CrossingDefinition(Crossing.Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "public.*")]))
            {
                Start = new StartOptions(Tables: [new ExistingRule("public.other", ExistingRows.Merge)]),
            }
        );
        await crossing.FollowsAsync();
        TableName[] other = [new("public", "other")];
        var refused = await Assert.ThrowsAsync<RequestRefusedException>(() => RemoveAsync(crossing, other, drops: true));
        Assert.Contains("were merged", refused.Message, StringComparison.Ordinal);
        await a.RunAsync("INSERT INTO other VALUES (1, 'before')");
        await crossing.SameAsync("other");
        await RemoveAsync(crossing, other, drops: false);
        await a.RunAsync("UPDATE other SET v = 'after'; UPDATE child SET v = 'after'");
        await crossing.SameAsync("child");
        Assert.Equal("before", await b.AskAsync("SELECT v FROM other"));
    }

    /// <summary>A table that the source no longer has leaves, and the crossing needs no one any more.</summary>
    [Fact]
    public async Task A_table_that_was_dropped_at_the_source_leaves_with_its_copy()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync("DROP TABLE other");
        await crossing.UntilAsync(() => Is(crossing, "other", TableState.Held), "held");
        await RemoveAsync(crossing, [new TableName("public", "other")], drops: true);
        await crossing.UntilAsync(() => crossing.Status is { State: CrossingState.Following, Tables.Count: 2 }, "following without it");
        Assert.Equal("", await b.AskAsync("SELECT to_regclass('other')::text"));
        await a.RunAsync("UPDATE child SET v = 'after'");
        await crossing.SameAsync("child", "parent");
    }

    private static bool Is(Crossing crossing, string table, TableState state) =>
        crossing.Status.Tables.Any(one => one.Source.Name == table && one.State == state);

    private Task RemoveAsync(Crossing crossing, TableName[] tables, bool drops) =>
        crossing.Engine.Tables.RemoveAsync(Crossing.Name, tables, drops ? new DroppedCopies() : null, "test", cancellation);

    private async Task<(Database From, Database To)> BothAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        return (a, b);
    }
}
