using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>A value of 100 MB crosses, and nothing keeps its memory.</summary>
public sealed class LargeValueTests(TwoServers servers)
{
    private const int ValueBytes = 100_000_000;

    [Fact]
    public async Task What_a_large_value_took_is_free_again_when_it_is_applied()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE t (id int PRIMARY KEY, v text); ALTER TABLE t ALTER v SET STORAGE EXTERNAL; INSERT INTO t VALUES (1, 'small')"
        );
        await using var crossing = await Crossing.StartAsync(a, b, "public.*");
        await crossing.FollowsAsync();
        await a.RunAsync($"INSERT INTO t VALUES (2, repeat('0123456789', {ValueBytes / 10}))");
        await SameAsync(crossing);
        await a.RunAsync($"UPDATE t SET v = repeat('9876543210', {ValueBytes / 10}) WHERE id = 2");
        await SameAsync(crossing);

        // Other tests use memory beside this one; what is asked is that no copy of the value is among what is alive.
        await crossing.UntilAsync(() => IsFree(), "the memory of the value being free");
    }

    /// <summary>What a row has no room for is one table's matter; a load copies it by another way.</summary>
    [Fact]
    public async Task A_change_that_is_too_large_holds_its_table_and_no_other()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync(
            "CREATE TABLE t (id int PRIMARY KEY, v text); ALTER TABLE t ALTER v SET STORAGE EXTERNAL; INSERT INTO t VALUES (1, "
                + "'small'); CREATE TABLE beside (LIKE t INCLUDING ALL)"
        );
        await using var crossing = await Crossing.StartAsync(a, b, "public.*");
        await crossing.FollowsAsync();
        await a.RunAsync(
            "BEGIN; INSERT INTO beside VALUES (1, 'before it'); INSERT INTO t VALUES (2, repeat('0123456789', 26000000)); INSERT INTO "
                + "beside VALUES (2, 'behind it'); COMMIT; INSERT INTO t VALUES (3, 'later')"
        );
        await crossing.SameAsync("beside");
        await crossing.UntilAsync(() => crossing.Status.Tables.Any(table => table.State == TableState.Held), "the table being held");
        var held = crossing.Status.Tables.Single(table => table.State == TableState.Held);
        Assert.Equal("public.t", held.Source.ToString());
        Assert.Contains("a change of one row has 260 MB, more than the 250 MB that are carried", held.Cause, StringComparison.Ordinal);
        Assert.Equal("1", await b.AskAsync("SELECT count(*)::text FROM t"));
        await crossing.Engine.ReloadAsync(Crossing.Name, [held.Source], "test", CancellationToken.None);
        await SameAsync(crossing);
        await a.RunAsync("UPDATE t SET id = 20 WHERE id = 2; DELETE FROM t WHERE id = 1");
        await SameAsync(crossing);
    }

    /// <summary>The digest of a whole table takes the server some seconds at this size, so that lengths are waited for.</summary>
    private static async Task SameAsync(Crossing crossing)
    {
        const string Lengths = "SELECT string_agg(id || ' ' || octet_length(v), ',' ORDER BY id) FROM t";
        const string Content = "SELECT string_agg(id || ' ' || md5(v), ',' ORDER BY id) FROM t";
        var until = DateTimeOffset.UtcNow.AddMinutes(3);
        while (
            await crossing.From.AskAsync(Lengths) != await crossing.To.AskAsync(Lengths)
            || await crossing.From.AskAsync(Content) != await crossing.To.AskAsync(Content)
        )
        {
            Assert.True(DateTimeOffset.UtcNow < until, string.Join(" | ", crossing.Said.TakeLast(8)));
            await Task.Delay(50);
        }
    }

    private static bool IsFree()
    {
        GC.Collect(2, GCCollectionMode.Aggressive, blocking: true, compacting: true);
        return GC.GetGCMemoryInfo(GCKind.FullBlocking).GenerationInfo[3].SizeAfterBytes < ValueBytes / 2;
    }
}
