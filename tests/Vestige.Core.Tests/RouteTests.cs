using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Core.Tests;

public sealed class RouteTests
{
    private static readonly TableName T = new("public", "t");
    private static readonly TableName U = new("public", "u");

    [Fact]
    public void A_route_remembers_each_database_once_and_survives_as_text()
    {
        var route = Route.None.From("a").From("b").From("a");
        Assert.Equal("a b", route.ToString());
        Assert.True(Route.Parse(route.ToString()).Has("b"));
        Assert.False(Route.Parse(null).Has("a"));
        Assert.True(Route.Parse("").IsNone);
    }

    [Fact]
    public void A_route_does_not_grow_without_end()
    {
        var route = Enumerable.Range(0, 200).Aggregate(Route.None, (route, i) => route.From($"database {i}"));
        Assert.Equal(Route.MostDatabases, route.ToString().Split(' ').Length);
        Assert.True(route.Has("database_199"));
    }

    [Theory]
    [InlineData("b>a", "b-a a-b")]
    [InlineData("b>c c>a", "b-c c-a a-b")]
    [InlineData("b>c c>d d>e e>a", "b-c c-d d-e e-a a-b")]
    [InlineData("b>c", null)]
    [InlineData("c>a", null)]
    [InlineData("b>c c>b", null)]
    [InlineData("a>b b>c c>d", null)]
    public void A_loop_is_found_over_any_number_of_hops(string crossings, string? way)
    {
        var others = crossings.Split(' ').Select(one => Carrying(one[..1], one[2..], T)).ToList();
        var found = LoopRule.Find(Carrying("a", "b", T), [T], others);
        Assert.Equal(way is null ? null : T, found?.Table);
        Assert.Equal(
            way is null ? null : string.Join(' ', way.Split(' ').Order()),
            found is null ? null : string.Join(' ', found.Value.Crossings.Order())
        );
    }

    [Fact]
    public void Different_tables_both_ways_are_no_loop() => Assert.Null(LoopRule.Find(Carrying("a", "b", T), [T], [Carrying("b", "a", U)]));

    [Fact]
    public void A_renamed_table_comes_back_under_its_own_name()
    {
        var there = new CarriedRows("there", "a", "b", table => table == T ? [U] : []);
        var back = new CarriedRows("back", "b", "a", table => table == U ? [T] : []);
        Assert.Equal(["there", "back"], LoopRule.Find(there, [T], [back])?.Crossings);
        var elsewhere = new CarriedRows("back", "b", "a", table => table == U ? [U] : []);
        Assert.Null(LoopRule.Find(there, [T], [elsewhere]));
    }

    [Fact]
    public void A_crossing_within_one_database_that_writes_its_own_source_is_a_loop() =>
        Assert.NotNull(LoopRule.Find(Carrying("a", "a", T), [T], []));

    private static CarriedRows Carrying(string from, string to, TableName only) =>
        new($"{from}-{to}", from, to, table => table == only ? [table] : []);
}
