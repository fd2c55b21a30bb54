using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Rows merged by key into a table that has rows of others, which stay.</summary>
public sealed class MergeTests(TwoServers servers)
{
    private const int Rows = 200_000;
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>Interrupted while rows are copied, and rows that were copied already are deleted before it continues.</summary>
    [Fact]
    public async Task Rows_of_others_stay_and_those_of_the_source_are_what_the_source_has()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            $"CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t SELECT i, 'here ' || i FROM generate_series(1, {Rows}) i"
        );
        await b.RunAsync(
            "CREATE TABLE t (id int CONSTRAINT another PRIMARY KEY, v text); INSERT INTO t VALUES (5, 'there'), (-7, 'of others'), "
                + "(9000000, 'of others')"
        );
        await using var crossing = await Crossing.DefineAsync(a, b, Definition);
        var loss = await Assert.ThrowsAsync<LossRefusedException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        Assert.Contains("3 rows of public.t", Assert.Single(loss.Losses), StringComparison.Ordinal);
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation, typed: Crossing.Name);
        await crossing.UntilAsync(() => crossing.Status.Tables.Any(table => table.RowsLoaded > 0), "the first rows");
        await crossing.EndAsync();
        Assert.Equal("false", await b.AskAsync("SELECT loaded::text FROM vestige.progress_table"));
        await a.RunAsync(
            "DELETE FROM t WHERE id % 7 = 0; UPDATE t SET id = id + 1000000 WHERE id % 11 = 0; UPDATE t SET v = 'new' WHERE id % 13 = 0"
        );
        await crossing.BeginAsync();
        await AgreeAsync(crossing, a, b);
        await a.RunAsync("DELETE FROM t WHERE id % 5 = 0; INSERT INTO t VALUES (-7, 'now of the source')");
        await AgreeAsync(crossing, a, b, "id <> 9000000");
        var refused = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            crossing.Engine.ReloadAsync(Crossing.Name, [TableName.Parse("public.t")], "test", cancellation)
        );
        Assert.Contains("deleted first", refused.Remedy, StringComparison.Ordinal);
        Assert.Equal("of others", await b.AskAsync("SELECT v FROM t WHERE id = 9000000"));
    }

    [Fact]
    public async Task What_cannot_be_merged_is_told_before_the_start()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); CREATE TABLE u (id int PRIMARY KEY, v text)");
        await b.RunAsync("CREATE TABLE t (id int, v text PRIMARY KEY)");
        await using var crossing = await Crossing.DefineAsync(
            a,
            b,
            Definition with
            {
                Treatment = [new TreatmentStep("*.u", Compute: [new ComputedColumn("w", "id + 1")])],
            }
        );
        var refused = await Assert.ThrowsAsync<NotReadyException>(() => crossing.Engine.RunAsync(Crossing.Name, "test", cancellation));
        Assert.Equal(
            ["merging public.u", "target table public.t"],
            refused.Checks.Where(line => !line.Ok).Select(line => line.Step).Order()
        );
    }

    private static CrossingDefinition Definition { get; } =
        new(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.*")]),
            new StartOptions(ExistingRows.Merge)
        );

    private static async Task AgreeAsync(Crossing crossing, Database a, Database b, string ours = "id NOT IN (-7, 9000000)")
    {
        var (wanted, found) = ("", "");
        await crossing.UntilAsync(
            () =>
                (wanted = a.DigestAsync("t").GetAwaiter().GetResult())
                == (found = b.DigestAsync($"(SELECT * FROM t WHERE {ours})").GetAwaiter().GetResult()),
            $"{wanted}, {found}"
        );
    }
}
