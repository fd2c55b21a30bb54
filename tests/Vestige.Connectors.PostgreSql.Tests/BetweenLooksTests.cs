using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.SchemaVersions;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// What is done to a table and taken back, so that the catalogue is, or looks, as it was: the log names columns only, and the catalogue is
/// looked at now and then.
/// </summary>
public sealed class BetweenLooksTests(TwoServers servers)
{
    private const string Tables = """
        CREATE TABLE t (id int PRIMARY KEY, n int NOT NULL DEFAULT 0, m int NOT NULL DEFAULT 0, v text);
        INSERT INTO t SELECT i, i, i, 'v' || i FROM generate_series(1, 20) i;
        """;

    /// <summary>The name stands for another column. What was before the drop may have had it, and cannot come any more.</summary>
    [Theory]
    [InlineData(SchemaChangeAction.Carry)]
    [InlineData(SchemaChangeAction.Hold)]
    public async Task A_column_that_is_dropped_and_added_later_does_not_hold_the_table(SchemaChangeAction dropped)
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, Definition(dropped));
        await crossing.FollowsAsync();
        await a.RunAsync("UPDATE t SET v = 'before'");
        await a.RunAsync("ALTER TABLE t DROP v");
        if (dropped == SchemaChangeAction.Hold)
        {
            await crossing.UntilAsync(() => Table(crossing)?.MayContinue == true, "held");
            await crossing.Engine.Held.AgreeAsync(Crossing.Name, [Table(crossing)!.Source], "test", CancellationToken.None);
        }

        await a.RunAsync("UPDATE t SET n = 7 WHERE id = 3");
        await crossing.SameAsync("t");
        await a.RunAsync("ALTER TABLE t ADD v text");
        for (var i = 0; i < 3; i++)
        {
            await a.RunAsync($"UPDATE t SET v = 'after {i}' WHERE id = {i + 2}; INSERT INTO t (id, v) VALUES ({i} + 30, 'new')");
            await crossing.SameAsync("t");
        }

        Assert.Null(Table(crossing)!.Cause);
    }

    /// <summary>One transaction at a time, so that none folds away what the one before it wrote.</summary>
    [Fact]
    public async Task A_column_that_takes_no_NULL_again_when_the_next_look_comes_takes_it_on_the_copy()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, Definition(SchemaChangeAction.Carry) with { ChangesPerSecond = 1 });
        await crossing.FollowsAsync();
        await crossing.EndAsync();
        await a.RunAsync("ALTER TABLE t ALTER n DROP NOT NULL, ALTER m DROP NOT NULL");
        await a.RunAsync("UPDATE t SET n = NULL, m = NULL WHERE id = 4");
        await a.RunAsync("UPDATE t SET n = 1, m = 1 WHERE id = 4");
        await a.RunAsync("ALTER TABLE t ALTER n SET NOT NULL, ALTER m SET NOT NULL");
        await crossing.BeginAsync();
        await crossing.SameAsync("t");
        Assert.Null(crossing.Status.Fault);
        Assert.Null(Table(crossing)!.Cause);
        Assert.Contains(crossing.Said, said => said.Contains("ALTER COLUMN \"n\" DROP NOT NULL", StringComparison.Ordinal));
    }

    /// <summary>It is none of the source's, and so not ours to take away.</summary>
    [Fact]
    public async Task A_column_out_of_which_others_keep_NULL_on_the_copy_keeps_it_out()
    {
        var (a, b) = await BothAsync();
        await using var crossing = await Crossing.StartAsync(a, b, Definition(SchemaChangeAction.Carry));
        await crossing.FollowsAsync();
        await b.RunAsync("ALTER TABLE t ALTER v SET NOT NULL");
        await a.RunAsync("UPDATE t SET v = NULL WHERE id = 4");
        await crossing.UntilAsync(() => crossing.Status.Fault is not null, "the fault");
        Assert.Contains("null value in column \"v\"", crossing.Status.Fault!.What, StringComparison.Ordinal);
        await b.RunAsync("ALTER TABLE t ALTER v DROP NOT NULL");
        await crossing.Engine.RunAsync(Crossing.Name, "test", CancellationToken.None);
        await crossing.SameAsync("t");
    }

    private static Vestige.Engine.Measuring.TableStatus? Table(Crossing crossing) =>
        crossing.Status.Tables.FirstOrDefault(table => table.Source.Name == "t");

    private static CrossingDefinition Definition(SchemaChangeAction dropped) =>
        new(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.t")]),
            SchemaChanges: [new SchemaChangeRule("*", dropped, [SchemaChangeKind.ColumnDropped])]
        );

    private async Task<(Database From, Database To)> BothAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(Tables);
        return (a, b);
    }
}
