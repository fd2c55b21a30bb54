using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Backfilling;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Rows of a range, or columns, that are written as the source has them while it is written to. Both sides are compared by digests that
/// the servers compute.
/// </summary>
public sealed class BackfillTests(TwoServers servers)
{
    private static readonly TableName T = new("public", "t");
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Rows_of_a_range_are_those_of_the_source_and_others_stay()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE t (id bigint PRIMARY KEY, u int UNIQUE, v text); "
                + "INSERT INTO t SELECT i, i, 'v' FROM generate_series(1, 30000) i; ANALYZE t"
        );
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.SameAsync("t");
        await b.RunAsync(
            "UPDATE t SET v = 'damaged' WHERE id % 100 = 0; DELETE FROM t WHERE id % 100 = 1; "
                + "INSERT INTO t SELECT -i, -i, 'extra' FROM generate_series(1, 10) i; INSERT INTO t VALUES (50000, NULL, 'beyond')"
        );
        using var ending = new CancellationTokenSource();
        var writing = WriteAsync(a, ending.Token);
        await FillAsync(crossing, "-5", "20000");
        await ending.CancelAsync();
        await writing;
        const string Within = "SELECT md5(string_agg(t::text, ',' ORDER BY id)) FROM t WHERE id BETWEEN -5 AND 19999";
        await b.UntilAsync(Within, await a.AskAsync(Within));
        Assert.Equal("5", await b.AskAsync("SELECT count(*)::text FROM t WHERE id < 0"));
        Assert.Equal("102", await b.AskAsync("SELECT count(*)::text FROM t WHERE v IN ('damaged', 'beyond')"));
        await FillAsync(crossing, null, "-5");
        await FillAsync(crossing, "20000", null);
        await crossing.SameAsync("t");
    }

    /// <summary>What else differs stays, and so do rows that only the target has.</summary>
    [Fact]
    public async Task Only_the_columns_that_are_named_are_written()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE t (id int, k int, v text, w text, PRIMARY KEY (id, k)); INSERT INTO t VALUES (1, 1, 'a', 'a'), (1, 2, 'b', 'b')"
        );
        var definition = new CrossingDefinition(
            Crossing.Name,
            CrossingDefinition.Copy,
            "a",
            "b",
            new TableRules([new TableRule(Take: "public.*")]),
            Treatment: [new TreatmentStep("public.t", Rename: [new RenamedColumn("w", "label")])]
        );
        await using var crossing = await Crossing.StartAsync(a, b, definition);
        await crossing.FollowsAsync();
        await b.RunAsync("UPDATE t SET v = 'x', label = 'x'; DELETE FROM t WHERE k = 1; INSERT INTO t VALUES (2, 1, 'x', 'x')");
        await FillAsync(crossing, null, null, "label");
        Assert.Equal(
            "1 1 a a, 1 2 x b, 2 1 x x",
            await b.AskAsync("SELECT string_agg(concat_ws(' ', id, k, v, label), ', ' ORDER BY id, k) FROM t")
        );
        await FillAsync(crossing, "1,2", "2,1");
        Assert.Equal(
            "1 1 a a, 1 2 b b, 2 1 x x",
            await b.AskAsync("SELECT string_agg(concat_ws(' ', id, k, v, label), ', ' ORDER BY id, k) FROM t")
        );
    }

    [Theory]
    [InlineData("CREATE TABLE t (id text PRIMARY KEY, v text)", "1", null, "not made of whole numbers")]
    [InlineData("CREATE TABLE t (id int PRIMARY KEY, v text)", "one", null, "is no key of public.t")]
    [InlineData("CREATE TABLE t (id int PRIMARY KEY, v text)", null, null, "Neither columns nor a range")]
    [InlineData("CREATE TABLE t (id int PRIMARY KEY, v text)", null, "z", "has no column z")]
    public async Task What_cannot_be_filled_is_refused(string table, string? from, string? column, string why)
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(table);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        var refusal = await Assert.ThrowsAsync<RequestRefusedException>(() => StartAsync(crossing, from, null, column));
        Assert.Contains(why, refusal.Message, StringComparison.Ordinal);
        Assert.Null(crossing.Engine.Reconcile.Backfills.Running(Crossing.Name));
    }

    /// <summary>A held table has a position of its own, and its rows are not written as of another.</summary>
    [Fact]
    public async Task Rows_of_a_held_table_are_not_written()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text, w text); INSERT INTO t VALUES (1, 'a', 'a')");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync("ALTER TABLE t DROP w; UPDATE t SET v = 'b'");
        await crossing.UntilAsync(() => crossing.Status.Tables[0].State == Core.Crossings.TableState.Held, "the table to be held");
        var refusal = await Assert.ThrowsAsync<RequestRefusedException>(() => StartAsync(crossing, "1", null, null));
        Assert.Contains("changed at the source", refusal.Message, StringComparison.Ordinal);
        Assert.Equal("a", await b.AskAsync("SELECT v FROM t"));
    }

    private async Task FillAsync(Crossing crossing, string? from, string? before, string? column = null)
    {
        await StartAsync(crossing, from, before, column);
        await OverAsync(crossing);
        Assert.Contains("Backfill done", crossing.Said[^1], StringComparison.Ordinal);
    }

    private Task StartAsync(Crossing crossing, string? from, string? before, string? column) =>
        crossing.Engine.Reconcile.Backfills.StartAsync(
            new Backfill(Crossing.Name, T, from, before, column is null ? [] : [column], "test", default) { DeletesExtra = column is null },
            cancellation
        );

    private static Task OverAsync(Crossing crossing) =>
        crossing.UntilAsync(() => crossing.Engine.Reconcile.Backfills.Running(Crossing.Name) is null, "the backfill");

    private static async Task WriteAsync(Database a, CancellationToken ending)
    {
        var random = new Random(1);
        while (!ending.IsCancellationRequested)
        {
            var key = random.Next(1, 19_900);
            await RowWalk.TryAsync(
                a,
                $"BEGIN; UPDATE t SET v = 'new {key}' WHERE id BETWEEN {key} AND {key + 20}; DELETE FROM t WHERE id = {key + 30}; "
                    + $"INSERT INTO t VALUES ({key + 30}, {key + 30}, 'again'); COMMIT"
            );
        }
    }
}
