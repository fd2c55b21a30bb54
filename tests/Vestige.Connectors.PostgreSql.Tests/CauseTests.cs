using Vestige.Connectors.PostgreSql.Tests.Servers;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Why a target takes long, as the server itself says it.</summary>
public sealed class CauseTests(TwoServers servers)
{
    [Fact]
    public async Task A_lock_is_named_with_the_session_that_holds_it()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'one')");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await using var holder = await b.OpenAsync();
        await using var transaction = await holder.BeginTransactionAsync(TestContext.Current.CancellationToken);
        await using (var touch = new Npgsql.NpgsqlCommand("UPDATE t SET v = 'held' WHERE id = 1", holder, transaction))
        {
            await touch.ExecuteNonQueryAsync(TestContext.Current.CancellationToken);
        }

        await a.RunAsync("UPDATE t SET v = 'two' WHERE id = 1");
        await crossing.UntilAsync(
            () => crossing.Status.Cause?.Contains($"lock held by session {holder.ProcessID}", StringComparison.Ordinal) == true,
            $"the lock of session {holder.ProcessID}: {crossing.Status.Cause}"
        );
        Assert.Contains("idle in transaction", crossing.Status.Cause, StringComparison.Ordinal);
        await transaction.RollbackAsync(TestContext.Current.CancellationToken);
        await crossing.SameAsync("t");
        await crossing.UntilAsync(() => crossing.Status.Cause is null, "nothing that delays");
    }
}
