using Vestige.Connectors.PostgreSql.Tests.Servers;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>Transactions of more megabytes than are folded at once, with all in them that cannot be folded.</summary>
public sealed class LargeTransactionTests(TwoServers servers) : IAsyncLifetime
{
    private Database a = null!;
    private Database b = null!;

    public async ValueTask InitializeAsync() => (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    [Fact]
    public async Task Rows_written_more_than_once_moved_and_removed_end_as_at_the_source()
    {
        await a.RunAsync(
            """
            CREATE TABLE parent (id int PRIMARY KEY, place int UNIQUE, v text);
            CREATE TABLE child (id int PRIMARY KEY, parent int NOT NULL REFERENCES parent, v text);
            CREATE TABLE line (v text); ALTER TABLE line REPLICA IDENTITY FULL;
            CREATE TABLE emptied (id int PRIMARY KEY, v text);
            INSERT INTO parent SELECT i, i, 'old' FROM generate_series(1, 2000) i;
            INSERT INTO child SELECT i, i, 'old' FROM generate_series(1, 2000) i;
            INSERT INTO line SELECT 'old ' || i FROM generate_series(1, 20) i;
            INSERT INTO emptied SELECT i, 'old' FROM generate_series(1, 500) i;
            """
        );
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync(
            """
            BEGIN;
            UPDATE parent SET v = repeat('first ', 600) || id WHERE id % 2 = 0;
            INSERT INTO parent SELECT i, i, repeat('more ', 1000) FROM generate_series(2001, 4000) i;
            INSERT INTO child SELECT i, i, 'more' FROM generate_series(2001, 4000) i;
            UPDATE line SET v = v || ' changed' WHERE v LIKE '%7';
            DELETE FROM child WHERE parent % 3 = 0; DELETE FROM parent WHERE id % 3 = 0;
            UPDATE parent SET place = -place WHERE id < 100; UPDATE parent SET place = -place WHERE id < 100;
            INSERT INTO parent SELECT 100000 + i, 100000 + i, repeat('x', 4000) FROM generate_series(1, 2000) i;
            UPDATE parent SET id = id + 1000000 WHERE id > 100000;
            TRUNCATE emptied; INSERT INTO emptied SELECT i, 'new' FROM generate_series(1, 50) i;
            DELETE FROM line WHERE v LIKE '%3'; INSERT INTO line VALUES ('old 1'), ('old 1');
            UPDATE parent SET v = 'last' WHERE id % 5 = 0;
            COMMIT;
            """
        );
        await crossing.SameAsync("parent", "child", "line", "emptied");
        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
    }

    [Fact]
    public async Task A_table_that_is_changed_within_it_is_changed_between_the_rows_before_and_after()
    {
        await a.RunAsync(
            "CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t SELECT i, 'old' FROM generate_series(1, 5000) i"
        );
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync(
            """
            BEGIN;
            UPDATE t SET v = repeat('before ', 600) WHERE id <= 2500;
            ALTER TABLE t ADD COLUMN note text;
            UPDATE t SET note = 'after ' || id WHERE id > 1250;
            INSERT INTO t SELECT i, repeat('w', 4000), 'new' FROM generate_series(5001, 7500) i;
            COMMIT;
            """
        );
        await crossing.SameAsync("t");
        Assert.DoesNotContain(crossing.Status.Tables, table => table.Cause is not null);
    }

    /// <summary>A label is no change of a table: the target is asked for it when it refuses a value.</summary>
    [Fact]
    public async Task A_label_that_the_target_does_not_know_is_added_and_the_transaction_applied()
    {
        await a.RunAsync("CREATE TYPE mood AS ENUM ('glad'); CREATE TABLE t (id int PRIMARY KEY, m mood, v text)");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync("ALTER TYPE mood ADD VALUE 'calm'");
        await a.RunAsync("INSERT INTO t SELECT i, CASE WHEN i = 750 THEN 'calm' ELSE 'glad' END::mood, repeat('v', 4000) "
            + "FROM generate_series(1, 1500) i");
        await crossing.SameAsync("t");
    }
}
