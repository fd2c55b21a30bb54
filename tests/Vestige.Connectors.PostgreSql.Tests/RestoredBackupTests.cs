using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>A backup of the data folder is older than the place in the log that was confirmed since.</summary>
public sealed class RestoredBackupTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task With_nothing_missing_on_the_target_it_continues_where_the_log_does()
    {
        var (a, crossing, restore) = await BackedUpAsync();
        await using var running = crossing;

        // Several workers come after the backup, so that the target knows terms that the restored store does not.
        for (var i = 0; i < 3; i++)
        {
            await crossing.BeginAsync();
            await crossing.FollowsAsync();
            await a.RunAsync("INSERT INTO t SELECT max(id) + 1, 'after the backup' FROM t");
            await crossing.SameAsync("t");
            await crossing.UntilAsync(() => crossing.Status.Lag is { Current: true }, "everything being confirmed");
            await crossing.EndAsync();
        }

        await restore();
        await a.RunAsync("UPDATE t SET v = 'while it was away' WHERE id = 1");
        await crossing.BeginAsync();
        await crossing.FollowsAsync();
        await a.RunAsync("INSERT INTO t VALUES (500, 'and on')");
        await crossing.SameAsync("t");
        Assert.Contains(crossing.Said, said => said.StartsWith("Restored: ", StringComparison.Ordinal));
        var compared = Assert.Single((await crossing.CompareAsync()).Tables);
        Assert.True(compared.IsEqual, $"{compared}");
    }

    [Fact]
    public async Task With_changes_that_the_target_lacks_the_place_is_lost()
    {
        var (a, crossing, restore) = await BackedUpAsync();
        await using var running = crossing;
        await crossing.BeginAsync();
        await crossing.FollowsAsync();
        await crossing.Engine.PauseAsync(Crossing.Name, "test", cancellation);
        await a.RunAsync("INSERT INTO t VALUES (100, 'confirmed and not applied')");
        await crossing.UntilAsync(
            () => crossing.Status.Capture is { } capture && capture.Spooled >= capture.Head,
            "everything being confirmed"
        );
        await Task.Delay(TimeSpan.FromSeconds(2), cancellation);
        await crossing.EndAsync();
        await restore();
        await crossing.BeginAsync();
        await crossing.UntilAsync(() => crossing.Status.Capture is { LostPlace: true }, "the place being lost");
        Assert.Contains(crossing.Said, said => said.Contains("the target of copy is before that", StringComparison.Ordinal));
    }

    [Fact]
    public async Task With_a_table_that_was_changed_since_the_place_is_lost()
    {
        var (a, crossing, restore) = await BackedUpAsync();
        await using var running = crossing;
        await crossing.BeginAsync();
        await crossing.FollowsAsync();
        await a.RunAsync("INSERT INTO t VALUES (100, 'applied')");
        await crossing.SameAsync("t");
        await crossing.UntilAsync(() => crossing.Status.Lag is { Current: true }, "everything being confirmed");
        await Task.Delay(TimeSpan.FromSeconds(2), cancellation);
        await crossing.EndAsync();
        await a.RunAsync("ALTER TABLE t ALTER v TYPE text USING upper(v)");
        await restore();
        await crossing.BeginAsync();
        await crossing.UntilAsync(() => crossing.Status.Capture is { LostPlace: true }, "the place being lost");
        Assert.Contains(crossing.Said, said =>
            said.Contains("public.t was changed at the source since it was loaded", StringComparison.Ordinal)
        );
    }

    /// <summary>A crossing that followed and is ended, with a way to put it back to that state.</summary>
    private async Task<(Database A, Crossing Crossing, Func<Task> Restore)> BackedUpAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t SELECT i, 'v' FROM generate_series(1, 20) i");
        var crossing = await Crossing.StartAsync(a, b, "public.*");
        await crossing.FollowsAsync();
        await crossing.EndAsync();
        return (a, crossing, await crossing.BackUpAsync());
    }
}
