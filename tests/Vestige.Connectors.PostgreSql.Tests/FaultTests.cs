using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>
/// What goes wrong at real servers, and what is then seen, kept and repaired. Each test has servers of its own where it breaks one.
/// </summary>
public sealed class FaultTests(TwoServers servers)
{
    /// <summary>The consistency condition of TPC-B: the sums of accounts, tellers, branches and history are equal.</summary>
    private const string Balanced = """
        SELECT (SELECT sum(abalance) FROM pgbench_accounts) = (SELECT sum(tbalance) FROM pgbench_tellers)
           AND (SELECT sum(tbalance) FROM pgbench_tellers) = (SELECT sum(bbalance) FROM pgbench_branches)
           AND (SELECT sum(bbalance) FROM pgbench_branches) = coalesce((SELECT sum(delta) FROM pgbench_history), 0)
        """;

    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task Under_a_load_nobody_here_wrote_the_target_balances_at_every_moment()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await BankAsync(a);
        var load = servers.A.ProgramAsync("pgbench", "-n", "-c", "3", "-T", "12", "-R", "800", a.Name);
        await Task.Delay(300, cancellation);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        var looks = 0;
        while (!load.IsCompleted || looks < 10)
        {
            Assert.Equal("True", await b.AskAsync(Balanced));
            looks++;
        }

        await load;
        await crossing.SameAsync("pgbench_accounts", "pgbench_tellers", "pgbench_branches", "pgbench_history");
        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
    }

    [Fact]
    public async Task A_source_that_loses_its_power_is_waited_for()
    {
        await using var server = await Cluster.StartAsync("fsync=on");
        var (a, b) = (await server.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await BankAsync(a);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        for (var round = 0; round < 3; round++)
        {
            var load = server.ProgramAsync("pgbench", "-n", "-c", "2", "-T", "30", a.Name);
            await Task.Delay(700, cancellation);
            await server.HaltAsync(immediate: true);
            await Assert.ThrowsAsync<InvalidOperationException>(() => load);
            await crossing.UntilAsync(() => crossing.Status.Capture?.Waiting is not null, "a message");
            await server.BootAsync();
            await crossing.SameAsync("pgbench_accounts", "pgbench_tellers", "pgbench_branches", "pgbench_history");
        }

        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
    }

    [Fact]
    public async Task A_target_that_loses_its_power_is_waited_for()
    {
        await using var server = await Cluster.StartAsync("fsync=on");
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await server.MakeDatabaseAsync());
        await BankAsync(a);
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        for (var round = 0; round < 3; round++)
        {
            var load = servers.A.ProgramAsync("pgbench", "-n", "-c", "2", "-T", "2", a.Name);
            await Task.Delay(700, cancellation);
            await server.HaltAsync(immediate: true);
            await crossing.UntilAsync(() => crossing.Status.Waiting is not null, "a message");
            await server.BootAsync();
            await load;
            await crossing.SameAsync("pgbench_accounts", "pgbench_tellers", "pgbench_branches", "pgbench_history");
        }

        Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
    }

    [Fact]
    public async Task A_target_that_is_lost_while_nothing_is_to_be_applied_is_missed_too()
    {
        await using var server = await Cluster.StartAsync();
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await server.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY)");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await server.HaltAsync(immediate: false);
        await crossing.UntilAsync(() => crossing.Status.Waiting is not null, "a message");
        await server.BootAsync();
        await crossing.UntilAsync(
            () => crossing.Status.Waiting is null && crossing.Status.State == CrossingState.Following,
            "following again"
        );
    }

    [Fact]
    public async Task A_dropped_slot_is_said_at_once_and_only_a_new_load_goes_on()
    {
        var (a, b) = await OneTableAsync();
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync($"SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE slot_name = '{a.Names.Slot}'");
        await DropSlotAsync(a);
        await a.RunAsync("UPDATE t SET v = 'unseen'");
        await crossing.UntilAsync(() => crossing.Status.Capture is { LostPlace: true }, "the loss");
        Assert.Contains("was dropped. Changes committed", crossing.Status.Capture!.Waiting, StringComparison.Ordinal);
        Assert.Equal("0", await a.AskAsync($"SELECT count(*) FROM pg_replication_slots WHERE slot_name = '{a.Names.Slot}'"));
        await crossing.Engine.ReloadAsync(Crossing.Name, [], "test", cancellation);
        await crossing.SameAsync("t");
        await a.RunAsync("UPDATE t SET v = 'seen again'");
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task A_slot_that_somebody_moved_on_is_not_read_as_if_nothing_were_missing()
    {
        var (a, b) = await OneTableAsync();
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await crossing.EndAsync();
        await a.RunAsync("UPDATE t SET v = 'skipped'");
        await crossing.UntilAsync(
            () =>
                a.AskAsync($"SELECT count(*) FROM pg_replication_slots WHERE slot_name = '{a.Names.Slot}' AND active")
                    .GetAwaiter()
                    .GetResult() == "0",
            "the slot's end"
        );
        await a.RunAsync($"SELECT pg_replication_slot_advance('{a.Names.Slot}', pg_current_wal_lsn())");
        await crossing.BeginAsync();
        await crossing.UntilAsync(() => crossing.Status.Capture is { LostPlace: true }, "the loss");
        Assert.Contains("was moved to", crossing.Status.Capture!.Waiting, StringComparison.Ordinal);
        Assert.NotEqual("skipped", await b.AskAsync("SELECT min(v) FROM t"));
    }

    [Theory]
    [InlineData(false)]
    [InlineData(true)]
    public async Task A_dropped_publication_is_not_made_again_as_if_nothing_were_missing(bool whileAway)
    {
        var (a, b) = await OneTableAsync();
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        if (whileAway)
        {
            await crossing.EndAsync();
        }

        await a.RunAsync($"DROP PUBLICATION {a.Names.Publication}");
        if (whileAway)
        {
            await crossing.BeginAsync();
        }

        await crossing.UntilAsync(() => crossing.Status.Capture is { LostPlace: true }, "the loss");
        Assert.Contains("was dropped", crossing.Status.Capture!.Waiting, StringComparison.Ordinal);
        await a.RunAsync("UPDATE t SET v = 'unseen'");
        await crossing.Engine.ReloadAsync(Crossing.Name, [], "test", cancellation);
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task The_sources_limit_on_kept_log_is_said_when_it_was_reached()
    {
        await using var server = await Cluster.StartAsync("max_slot_wal_keep_size=16MB", "max_wal_size=32MB", "min_wal_size=32MB");
        var (a, b) = (await server.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'a'); CREATE TABLE other (v text)");
        await using var crossing = await Crossing.StartAsync(a, b, "public.t");
        await crossing.FollowsAsync();
        await crossing.EndAsync();
        for (var i = 0; i < 8; i++)
        {
            await a.RunAsync("INSERT INTO other SELECT repeat('x', 1000) FROM generate_series(1, 16000); SELECT pg_switch_wal()");
            await a.RunAsync("CHECKPOINT");
        }

        Assert.Equal("lost", await a.AskAsync($"SELECT wal_status FROM pg_replication_slots WHERE slot_name = '{a.Names.Slot}'"));
        await crossing.BeginAsync();
        await crossing.UntilAsync(() => crossing.Status.Capture is { LostPlace: true }, "the loss");
        Assert.Contains("limit on kept log was reached", crossing.Status.Capture!.Waiting, StringComparison.Ordinal);
        await crossing.Engine.ReloadAsync(Crossing.Name, [], "test", cancellation);
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task A_source_restored_from_an_older_state_is_not_followed()
    {
        await using var server = await Cluster.StartAsync();
        var (a, b) = (await server.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'a')");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await crossing.EndAsync();
        await server.HaltAsync(immediate: false);
        await Cluster.RunAsync("cp", "-a", server.Data, server.Data + ".older");
        await server.BootAsync();
        await crossing.BeginAsync();
        await a.RunAsync("UPDATE t SET v = 'b'; SELECT pg_switch_wal()");
        await crossing.SameAsync("t");
        await crossing.UntilAsync(() => crossing.Status.Capture is { PassedHead: true }, "the head");
        await server.HaltAsync(immediate: true);
        await Cluster.RunAsync("rm", "-rf", server.Data);
        await Cluster.RunAsync("mv", server.Data + ".older", server.Data);
        await server.BootAsync();
        await crossing.UntilAsync(() => crossing.Status.Capture is { LostPlace: true }, "the loss");
        Assert.Contains("restored from an older state", crossing.Status.Capture!.Waiting, StringComparison.Ordinal);
    }

    [Fact]
    public async Task A_promoted_source_is_another_log()
    {
        await using var server = await Cluster.StartAsync();
        var (a, b) = (await server.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'a')");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await server.HaltAsync(immediate: false);
        await File.WriteAllTextAsync(Path.Combine(server.Data, "standby.signal"), "", cancellation);
        await server.BootAsync();
        await a.AskAsync("SELECT pg_promote()");
        await a.RunAsync("UPDATE t SET v = 'on the other timeline'");
        await crossing.UntilAsync(() => crossing.Status.Capture is { LostPlace: true }, "the loss");
        Assert.Contains("restored or replaced", crossing.Status.Capture!.Waiting, StringComparison.Ordinal);
        Assert.Equal("a", await b.AskAsync("SELECT v FROM t"));
        await crossing.Engine.ReloadAsync(Crossing.Name, [], "test", cancellation);
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task A_changed_target_table_stops_the_crossing_with_a_message()
    {
        var (a, b) = await OneTableAsync();
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await b.RunAsync("ALTER TABLE t RENAME v TO w");
        await a.RunAsync("UPDATE t SET v = 'x' WHERE id = 1");
        await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Faulted, "the fault");
        Assert.Contains("does not match", crossing.Status.Fault!.What, StringComparison.Ordinal);
        await b.RunAsync("ALTER TABLE t RENAME w TO v");
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.SameAsync("t");
    }

    /// <summary>The progress was removed, or the connection now leads to another database that has such tables.</summary>
    [Fact]
    public async Task Rows_of_a_target_that_knows_nothing_of_the_crossing_are_not_deleted()
    {
        var (a, b) = await OneTableAsync();
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await crossing.Engine.PauseAsync(Crossing.Name, "test", cancellation);
        await b.RunAsync("DROP SCHEMA vestige CASCADE; UPDATE t SET v = 'somebody else''s'");
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.UntilAsync(() => crossing.Status.Fault is not null, "the fault");
        Assert.Contains("already has", crossing.Status.Fault!.What, StringComparison.Ordinal);
        Assert.Equal("0", await b.AskAsync("SELECT count(*) FROM t WHERE v <> 'somebody else''s'"));
        await b.RunAsync("DELETE FROM t");
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task A_refused_row_is_named_and_what_came_before_it_is_there()
    {
        var (a, b) = await OneTableAsync();
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await b.RunAsync("ALTER TABLE t ADD CHECK (v <> 'bad')");
        await a.RunAsync("UPDATE t SET v = 'good' WHERE id = 3");
        await a.RunAsync("UPDATE t SET v = 'bad' WHERE id = 7");
        await a.RunAsync("UPDATE t SET v = 'later' WHERE id = 8");
        await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Faulted, "the fault");
        Assert.Equal(("public.t", "7"), (crossing.Status.Fault!.Table, crossing.Status.Fault.Key));
        Assert.Equal("good,v,v", await b.AskAsync("SELECT string_agg(v, ',' ORDER BY id) FROM t WHERE id IN (3, 7, 8)"));
        await b.RunAsync("ALTER TABLE t DROP CONSTRAINT t_v_check");
        await crossing.Engine.RunAsync(Crossing.Name, "test", cancellation);
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task A_changed_password_is_waited_out()
    {
        await using var server = await Cluster.StartAsync();
        var (a, b) = (await server.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'a')");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await using var dba = await a.OpenAsync();
        async Task SayAsync(string statement)
        {
            await using var command = new Npgsql.NpgsqlCommand(statement, dba);
            await command.ExecuteNonQueryAsync(cancellation);
        }

        await SayAsync(
            "ALTER ROLE dba PASSWORD 'another'; UPDATE t SET v = 'b'; SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE "
                + "application_name = 'vestige'"
        );
        await crossing.UntilAsync(() => crossing.Status.Capture?.Waiting?.Contains("28P01", StringComparison.Ordinal) == true, "a message");
        Assert.DoesNotContain(Cluster.Password, crossing.Status.Capture!.Waiting, StringComparison.Ordinal);
        await SayAsync($"ALTER ROLE dba PASSWORD '{Cluster.Password}'");
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task Only_one_worker_can_write()
    {
        var (_, b) = await OneTableAsync();
        await using var target = b.Target();
        await using var older = await target.OpenSessionAsync("c", 1, cancellation);
        await using var transaction = await older.BeginAsync(false, cancellation);
        var newer = target.OpenSessionAsync("c", 2, cancellation);
        await Task.Delay(200, cancellation);
        Assert.False(newer.IsCompleted);
        await transaction.CommitAsync(new Engine.Ports.ProgressUpdate(new Core.Positions.LogPosition(5), []), cancellation);
        await using var taken = await newer;
        Assert.Equal(5UL, taken.Progress.Position!.Value.Offset);
        await Assert.ThrowsAsync<FencedException>(() => older.BeginAsync(false, cancellation));
        await Assert.ThrowsAsync<FencedException>(() => target.OpenSessionAsync("c", 2, cancellation));
    }

    /// <summary>On a file system of 40 MB, mounted where the machine lets us; elsewhere this one says that it was not tried.</summary>
    [Fact]
    public async Task A_full_disk_of_the_target_is_told_and_waited_for()
    {
        var place = Directory.CreateTempSubdirectory("vestige-small-").FullName;
        try
        {
            await Cluster.RunAsync("mount", "-t", "tmpfs", "-o", "size=40m", "tmpfs", place);
            await Cluster.RunAsync("chown", "postgres", place);
        }
        catch (Exception exception) when (exception is InvalidOperationException or System.ComponentModel.Win32Exception)
        {
            Directory.Delete(place);
            Assert.Skip($"No small file system can be mounted here: {exception.Message}");
        }

        try
        {
            await using var server = await Cluster.StartAsync();
            await new Database(server, "postgres").RunAsync($"CREATE TABLESPACE small LOCATION '{place}'");
            var (a, b) = (await servers.A.MakeDatabaseAsync(), await server.MakeDatabaseAsync());
            await b.RunAsync($"ALTER DATABASE {b.Name} SET default_tablespace = small");
            await a.RunAsync(
                "CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t SELECT i, repeat('x', 100) FROM generate_series(1, 20000) i"
            );
            await using var crossing = await Crossing.StartAsync(a, b);
            await crossing.FollowsAsync();
            await using (var ballast = File.Create(Path.Combine(place, "ballast")))
            {
                await FillAsync(ballast);
            }

            await a.RunAsync("INSERT INTO t SELECT i, repeat('y', 100) FROM generate_series(20001, 100000) i");
            await crossing.UntilAsync(() => crossing.Status.Waiting is not null, "a message");
            Assert.Contains("No space left", crossing.Status.Waiting!.What, StringComparison.Ordinal);
            Assert.Contains("Free space", crossing.Status.Waiting.Remedy, StringComparison.Ordinal);
            Assert.Equal("20000", await b.AskAsync("SELECT count(*) FROM t"));
            File.Delete(Path.Combine(place, "ballast"));
            await crossing.SameAsync("t");
            Assert.All(crossing.Status.Tables, table => Assert.Equal(0, table.Tally.Unexpected.Total));
        }
        finally
        {
            await Cluster.RunAsync("umount", "-l", place);
            Directory.Delete(place);
        }
    }

    private static async Task FillAsync(FileStream file)
    {
        var block = new byte[1 << 20];
        try
        {
            while (true)
            {
                await file.WriteAsync(block);
                await file.FlushAsync();
            }
        }
        catch (IOException)
        {
            // Full.
        }
    }

    private static async Task BankAsync(Database a)
    {
        await a.Cluster.ProgramAsync("pgbench", "-i", "-q", "-s", "2", "--foreign-keys", a.Name);
        await a.RunAsync("ALTER TABLE pgbench_history ADD COLUMN id bigserial PRIMARY KEY");
    }

    private static async Task DropSlotAsync(Database a)
    {
        for (var tries = 0; ; tries++)
        {
            try
            {
                await a.RunAsync(
                    $"SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE slot_name = '{a.Names.Slot}'; SELECT "
                        + $"pg_drop_replication_slot('{a.Names.Slot}')"
                );
                return;
            }
            catch (Npgsql.PostgresException exception) when (exception.SqlState == "55006" && tries < 100)
            {
                await Task.Delay(20);
            }
        }
    }

    private async Task<(Database A, Database B)> OneTableAsync()
    {
        var (a, b) = (await servers.A.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t SELECT i, 'v' FROM generate_series(1, 100) i");
        return (a, b);
    }
}
