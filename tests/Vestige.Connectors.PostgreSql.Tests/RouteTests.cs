using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// Crossings of several installations that know nothing of each other: what came from a database does not go back to it, and
/// everything else is carried on.
/// </summary>
public sealed class RouteTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task A_chain_carries_everything_on()
    {
        var (a, b, c) = await ThreeAsync();
        await a.RunAsync(
            "INSERT INTO t SELECT i, 'a' FROM generate_series(1, 100) i; CREATE TABLE keyless (v text); ALTER TABLE keyless REPLICA "
                + "IDENTITY FULL; INSERT INTO keyless VALUES ('x'), (NULL), ('')"
        );
        await using var first = await Crossing.StartAsync(a, b);
        await first.FollowsAsync();
        await using var second = await Crossing.StartAsync(b, c);
        await second.FollowsAsync();
        await a.RunAsync("UPDATE t SET v = 'b' WHERE id < 50; DELETE FROM t WHERE id = 7; UPDATE keyless SET v = 'y' WHERE v = ''");
        await SameAsync("t", a, b, c);
        await SameAsync("keyless", a, b, c);
    }

    [Fact]
    public async Task A_loop_ends_after_one_round_and_what_a_person_changes_goes_on()
    {
        var (a, b, c) = await ThreeAsync();
        await a.RunAsync("INSERT INTO t SELECT i, 'a' FROM generate_series(1, 100) i");
        await using var first = await Crossing.StartAsync(a, b);
        await first.FollowsAsync();
        await using var second = await Crossing.StartAsync(b, c);
        await second.FollowsAsync();
        await using var third = await Crossing.DefineAsync(c, a, Merging);
        await third.Engine.RunAsync(Crossing.Name, "test", cancellation, typed: Crossing.Name);
        await third.FollowsAsync();
        await RestAsync(a, b, c);

        await a.RunAsync("UPDATE t SET v = 'of a' WHERE id <= 10");
        await b.RunAsync("UPDATE t SET v = 'of b' WHERE id BETWEEN 11 AND 20");
        await c.RunAsync(
            "UPDATE t SET v = 'of c' WHERE id BETWEEN 21 AND 30; INSERT INTO t VALUES (500, 'of c, too'); DELETE FROM t WHERE id = 99"
        );
        await SameAsync("t", a, b, c);
        Assert.Equal(
            "10,10,11",
            await a.AskAsync(
                "SELECT count(*) FILTER (WHERE v = 'of a') || ',' || count(*) FILTER (WHERE v = 'of b') || ',' || count(*) FILTER "
                    + "(WHERE v LIKE 'of c%') FROM t"
            )
        );
        await RestAsync(a, b, c);

        // The last load merged 100 rows into a, which b got too; of the 30 updates, the insert and the delete each has every one once.
        Assert.Equal("101/130/1 101/130/1 101/30/1", await WrittenAsync(a, b, c));
        await a.RunAsync("TRUNCATE t; INSERT INTO t VALUES (1, 'afresh')");
        await SameAsync("t", a, b, c);
        Assert.Equal("1 afresh", await c.AskAsync("SELECT string_agg(id || ' ' || v, ',') FROM t"));
    }

    /// <summary>Of one installation such a crossing is neither saved nor started.</summary>
    [Fact]
    public async Task One_installation_refuses_a_loop_before_it_is_made()
    {
        var (a, b, _) = await ThreeAsync();
        await a.RunAsync("CREATE TABLE other (id int PRIMARY KEY)");
        await b.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); CREATE TABLE other (id int PRIMARY KEY)");
        await using var both = await BothWays.StartAsync(a, b);
        await both.Engine.DefineAsync(Of("there", "a", "b", "public.t"), "test", cancellation);
        await both.Engine.RunAsync("there", "test", cancellation, typed: "there");
        var refused = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            both.Engine.DefineAsync(Of("back", "b", "a", "public.*"), "test", cancellation)
        );
        Assert.Contains("public.t would return to it through back, then there", refused.Message, StringComparison.Ordinal);

        // By another name of the same server.
        refused = await Assert.ThrowsAsync<RequestRefusedException>(() =>
            both.Engine.DefineAsync(Of("back", "b", "a-again", "public.t"), "test", cancellation)
        );
        Assert.Contains("circulate forever", refused.Message, StringComparison.Ordinal);

        // Different tables both ways are no loop.
        await both.Engine.DefineAsync(Of("back", "b", "a", "public.other"), "test", cancellation);
        var plan = await both.Engine.PlanAsync(Of("back", "b", "a", "public.other"), cancellation);
        Assert.DoesNotContain(plan.Checks, line => line.Step == "no loop");
        plan = await both.Engine.PlanAsync(Of("back", "b", "a", "public.*"), cancellation);
        Assert.Contains(plan.Checks, line => line is { Step: "no loop", Ok: false });
    }

    private static CrossingDefinition Merging { get; } = Of(Crossing.Name, "a", "b", "public.*");

    private static CrossingDefinition Of(string name, string from, string to, string tables) =>
        new(name, CrossingDefinition.Copy, from, to, new TableRules([new TableRule(Take: tables)]), new StartOptions(ExistingRows.Merge));

    private async Task<(Database A, Database B, Database C)> ThreeAsync()
    {
        var (a, b, c) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text)");
        return (a, b, c);
    }

    /// <summary>
    /// What the last load merged has gone round: two changes of one row in two places at a time would be a conflict, which this is not
    /// about.
    /// </summary>
    private async Task RestAsync(params Database[] databases)
    {
        for (string before = "", now = await WrittenAsync(databases); before != now;)
        {
            await Task.Delay(TimeSpan.FromSeconds(3), cancellation);
            (before, now) = (now, await WrittenAsync(databases));
        }
    }

    private static async Task<string> WrittenAsync(params Database[] databases)
    {
        var counts = new List<string>();
        foreach (var database in databases)
        {
            counts.Add(
                await database.AskAsync(
                    "SELECT n_tup_ins || '/' || n_tup_upd || '/' || n_tup_del FROM pg_stat_user_tables WHERE relname = 't' AND "
                        + "schemaname = 'public'"
                )
            );
        }

        return string.Join(" ", counts);
    }

    private async Task SameAsync(string table, params Database[] databases)
    {
        var until = DateTimeOffset.UtcNow.AddSeconds(120);
        while (true)
        {
            var digests = new HashSet<string>();
            foreach (var database in databases)
            {
                digests.Add(await DigestAsync(database, table));
            }

            if (digests.Count == 1)
            {
                return;
            }

            Assert.True(DateTimeOffset.UtcNow < until, $"{table}: {string.Join(", ", digests)}");
            await Task.Delay(50, cancellation);
        }
    }

    private static async Task<string> DigestAsync(Database database, string table)
    {
        try
        {
            return await database.DigestAsync(table);
        }
        catch (Npgsql.PostgresException exception) when (exception.SqlState == "42P01")
        {
            return $"none in {database.Name}";
        }
    }
}
