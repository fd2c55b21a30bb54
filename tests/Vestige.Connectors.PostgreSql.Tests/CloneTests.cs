using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>A server out of a copy of another's files says the same of itself, and is another: a usual target of a migration.</summary>
public sealed class CloneTests
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_clone_is_another_database_and_another_name_of_a_server_is_not()
    {
        await using var server = await Cluster.StartAsync();
        var a = await server.MakeDatabaseAsync();
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t SELECT i, 'v' FROM generate_series(1, 50) i");
        await using var clone = await server.CloneAsync();
        var b = new Database(clone, a.Name);
        await using (var here = a.Source())
        await using (var again = new PostgreSqlTarget(a.Settings() with { Host = "localhost" }, TimeProvider.System))
        await using (var there = b.Target())
        {
            Assert.Equal(await here.GetIdentityAsync(cancellation), await there.GetIdentityAsync(cancellation));
            Assert.False(await here.IsSameAsync(there, cancellation));
            Assert.True(await here.IsSameAsync(again, cancellation));
        }

        var definition = new CrossingDefinition(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.*")]),
            new StartOptions(Existing: ExistingRows.Empty)
        );
        await using var crossing = await Crossing.DefineAsync(a, b, definition);
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation, typed: Crossing.Name);
        await crossing.FollowsAsync();
        await a.RunAsync("UPDATE t SET v = 'of the first' WHERE id < 10; DELETE FROM t WHERE id = 20");
        await crossing.SameAsync("t");
    }
}
