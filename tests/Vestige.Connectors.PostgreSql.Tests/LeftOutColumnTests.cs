using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Backfilling;
using Vestige.Engine.Faults;
using Vestige.Engine.Reconciling;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>What is done to columns and left out by a rule: the copy is compared, repaired and backfilled without it.</summary>
public sealed class LeftOutColumnTests(TwoServers servers)
{
    private static readonly SchemaChangeKind[] Columns =
    [
        SchemaChangeKind.ColumnAdded,
        SchemaChangeKind.ColumnDropped,
        SchemaChangeKind.ColumnRenamed,
    ];

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Theory]
    [InlineData("ALTER TABLE t ADD z int DEFAULT 7", "z")]
    [InlineData("ALTER TABLE t RENAME v TO text", "")]
    [InlineData("ALTER TABLE t RENAME v TO text; ALTER TABLE t ADD z int", "z")]
    public async Task A_copy_without_it_is_compared_repaired_and_backfilled(string statement, string missing)
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE t (id int PRIMARY KEY, v text, w text); INSERT INTO t SELECT i, 'v' || i, 'w' || i FROM generate_series(1, 50) i"
        );
        await using var crossing = await Crossing.StartAsync(a, b, Definition);
        await crossing.SameAsync("t");
        await a.RunAsync("UPDATE t SET w = 'changed' WHERE id < 10");
        await a.RunAsync(statement);
        await a.RunAsync("INSERT INTO t (id) VALUES (51); DELETE FROM t WHERE id = 50");
        await b.UntilAsync("SELECT count(*) || ' ' || max(id) FROM t", "50 51");
        var equal = await ComparedAsync(crossing);
        Assert.Equal((50, 0), (equal.Same, equal.Differing + equal.Missing + equal.Extra));
        Assert.Equal(missing, string.Join(", ", equal.LeftOut));

        await b.RunAsync("UPDATE t SET v = 'damaged' WHERE id IN (20, 30); DELETE FROM t WHERE id = 40");
        var found = await crossing.CompareAsync();
        Assert.Equal((2, 1), (found.Tables[0].Differing, found.Tables[0].Missing));
        await crossing.Engine.Reconcile.Repairs.RepairAsync(Crossing.Name, found, [(found.Tables[0].Into, 0)], false, "test", cancellation);
        await crossing.Engine.Reconcile.Backfills.StartAsync(
            new Backfill(Crossing.Name, new TableName("public", "t"), "1", null, [], "test", default),
            cancellation
        );
        await crossing.UntilAsync(() => crossing.Engine.Reconcile.Backfills.Running(Crossing.Name) is null, "the backfill");
        var mended = await ComparedAsync(crossing);
        Assert.Equal((50, 0), (mended.Same, mended.Differing + mended.Missing + mended.Extra));
        Assert.Equal("v20", await b.AskAsync("SELECT v FROM t WHERE id = 20"));
    }

    /// <summary>What a written row would hold in the column that only the target has nobody knows.</summary>
    [Fact]
    public async Task A_copy_that_keeps_a_dropped_column_is_compared_and_not_repaired()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text, w text); INSERT INTO t VALUES (1, 'a', 'a'), (2, 'b', 'b')");
        await using var crossing = await Crossing.StartAsync(a, b, Definition);
        await crossing.SameAsync("t");
        await a.RunAsync("ALTER TABLE t DROP w; UPDATE t SET v = 'c' WHERE id = 2");
        await b.UntilAsync("SELECT v FROM t WHERE id = 2", "c");
        Assert.Equal(2, (await ComparedAsync(crossing)).Same);
        await b.RunAsync("UPDATE t SET v = 'damaged' WHERE id = 1");
        var found = await crossing.CompareAsync();
        Assert.Equal(1, found.Tables[0].Differing);
        var refusal = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            crossing.Engine.Reconcile.Repairs.RepairAsync(Crossing.Name, found, null, false, "test", cancellation)
        );
        Assert.Contains("keeps column w", refusal.Message, StringComparison.Ordinal);
        Assert.Equal(CrossingState.Following, crossing.Status.State);
    }

    private static CrossingDefinition Definition { get; } =
        new(Crossing.Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "public.*")]))
        {
            SchemaChanges = [new SchemaChangeRule("*", SchemaChangeAction.LeaveOut, Columns)],
        };

    /// <summary>Until the change of the form does not lie between both sides any more.</summary>
    private async Task<TableFinding> ComparedAsync(Crossing crossing)
    {
        for (var began = DateTime.UtcNow; ; await Task.Delay(100, cancellation))
        {
            var found = (await crossing.CompareAsync()).Tables[0];
            if (found.Reason is null)
            {
                return found;
            }

            Assert.True(DateTime.UtcNow - began < Crossing.Patience, found.Reason);
        }
    }
}
