using Vestige.Connectors.PostgreSql.Tests.Servers;
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
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); ALTER TABLE t ALTER v SET STORAGE EXTERNAL; INSERT INTO t VALUES (1, 'small')");
        await using var crossing = await Crossing.StartAsync(a, b, "public.*");
        await crossing.FollowsAsync();
        await a.RunAsync($"INSERT INTO t VALUES (2, repeat('0123456789', {ValueBytes / 10}))");
        await crossing.SameAsync("t");
        await a.RunAsync($"UPDATE t SET v = repeat('9876543210', {ValueBytes / 10}) WHERE id = 2");
        await crossing.SameAsync("t");

        // Other tests use memory beside this one; what is asked is that no copy of the value is among what is alive.
        await crossing.UntilAsync(() => IsFree(), "the memory of the value being free");
    }

    private static bool IsFree()
    {
        GC.Collect(2, GCCollectionMode.Aggressive, blocking: true, compacting: true);
        return GC.GetGCMemoryInfo(GCKind.FullBlocking).GenerationInfo[3].SizeAfterBytes < ValueBytes / 2;
    }
}
