using Vestige.Connectors.PostgreSql.Log;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests;

/// <summary>What the marks in the log are for: another past is found, and log of other databases need not be kept.</summary>
public sealed class MarkTests(TwoServers servers)
{
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    /// <summary>
    /// The files of the server are put back, as a snapshot of its disk would, and it is worked on until its log is longer
    /// than it was: identity, timeline, slot and positions all fit.
    /// </summary>
    [Fact]
    public async Task A_source_put_back_and_grown_past_our_place_is_found_out()
    {
        await using var server = await Cluster.StartAsync("fsync=on");
        var (a, b) = (await server.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t SELECT i, 'row ' || i FROM generate_series(1, 50) i");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync("UPDATE t SET v = 'before the snapshot'");
        await crossing.SameAsync("t");
        await crossing.EndAsync();
        await server.HaltAsync(immediate: false);
        var kept = await server.CopyDataAsync();
        await server.BootAsync();
        await crossing.BeginAsync();
        var confirmed = await a.AskAsync("SELECT pg_current_wal_lsn()::text");
        await a.RunAsync("UPDATE t SET v = 'lost with the disk' WHERE id < 10");
        await crossing.SameAsync("t");
        await WrittenAsync(crossing, confirmed);
        var place = crossing.Status.Capture!.Spooled;
        await crossing.EndAsync();
        await server.HaltAsync(immediate: true);
        await server.PutBackAsync(kept);
        await server.BootAsync();
        for (var round = 0; await a.AskAsync($"SELECT pg_current_wal_lsn() > '{Lsn.Format(place)}'::pg_lsn + 100000") != "True"; round++)
        {
            await a.RunAsync("UPDATE t SET v = v || '.' WHERE id > 10");
        }

        await crossing.BeginAsync();
        await crossing.UntilAsync(() => crossing.Status.Capture is { LostPlace: true }, "the loss");
        Assert.Contains("does not hold at", crossing.Status.Capture!.Waiting, StringComparison.Ordinal);
        await crossing.UntilAsync(() => crossing.Status.State == CrossingState.Faulted, "the fault");
        await crossing.Engine.ReloadAsync(Crossing.Name, [], "test", cancellation);
        await crossing.SameAsync("t");
        await a.RunAsync("UPDATE t SET v = 'followed again'");
        await crossing.SameAsync("t");
    }

    [Fact]
    public async Task Log_that_only_another_database_writes_is_let_go_and_an_idle_server_stays_idle()
    {
        await using var server = await Cluster.StartAsync("log_min_duration_statement=0");
        var (a, b) = (await server.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t SELECT i, 'row ' || i FROM generate_series(1, 50) i");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        var other = await server.MakeDatabaseAsync();
        await other.RunAsync("CREATE TABLE noise AS SELECT i, repeat('x', 500) v FROM generate_series(1, 20000) i");
        var written = await other.AskAsync("SELECT pg_current_wal_lsn()::text");
        await crossing.UntilAsync(
            () =>
                a.AskAsync($"SELECT confirmed_flush_lsn >= '{written}' FROM pg_replication_slots WHERE slot_name = '{a.Names.Slot}'")
                    .GetAwaiter()
                    .GetResult() == "True",
            "the other's log being let go"
        );
        var marks = await MarksAsync(server);
        await Task.Delay(TimeSpan.FromSeconds(13), cancellation);
        Assert.InRange(await MarksAsync(server) - marks, 0, 1);
    }

    [Fact]
    public async Task Marks_are_written_and_log_is_let_go_also_while_commits_wait_for_a_standby_that_is_away()
    {
        await using var server = await Cluster.StartAsync();
        var (a, b) = (await server.MakeDatabaseAsync(), await servers.B.MakeDatabaseAsync());
        await a.RunAsync("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'first')");
        await using var crossing = await Crossing.StartAsync(a, b);
        await crossing.FollowsAsync();
        await a.RunAsync("ALTER SYSTEM SET synchronous_standby_names = 'nobody'");
        await a.RunAsync("SELECT pg_reload_conf()");
        await a.RunAsync("SET synchronous_commit = local; UPDATE t SET v = 'second'");
        await WrittenAsync(crossing, await a.AskAsync("SELECT pg_current_wal_lsn()::text"));
        await crossing.SameAsync("t");
        await a.RunAsync("ALTER SYSTEM RESET synchronous_standby_names");
        await a.RunAsync("SELECT pg_reload_conf()");
    }

    /// <summary>Whatever a process that is killed then had confirmed, the next one finds the mark that it noted.</summary>
    [Fact]
    public async Task Nothing_is_confirmed_beyond_a_mark_that_was_met_and_may_be_noted()
    {
        await using var nobody = Nobody();
        var marks = new LogHeartbeat(nobody, "test", note: null, possible: true, new SetClock());
        marks.Meet(new(80), null);
        Assert.Equal(new(80), marks.Confirmable(new(80)));
        marks.Meet(new(100), "test first");
        marks.Meet(new(120), null);
        Assert.Equal(new(99), marks.Confirmable(new(120)));
        var note = marks.TakeNote();
        Assert.Equal(new(99), marks.Confirmable(new(120)));
        Assert.Equal(new(99), LogHeartbeat.BeginOf(note));

        // The next one counts only once it is noted.
        marks.Meet(new(200), "test second");
        Assert.Equal(new(99), marks.Confirmable(new(200)));
        Assert.Equal(new(199), LogHeartbeat.BeginOf(marks.TakeNote()));
        Assert.Equal(new(199), marks.Confirmable(new(200)));
    }

    private static PostgreSqlSource Nobody() =>
        new(
            new PostgreSqlSettings("127.0.0.1", 1, "none", "nobody", TlsMode.Off, null, "none"),
            LogNames.Of("test", "none"),
            TimeProvider.System
        );

    [Fact]
    public async Task Marks_that_cannot_be_written_for_a_minute_are_told_and_not_before()
    {
        await using var nobody = Nobody();
        var clock = new SetClock();
        var marks = new LogHeartbeat(nobody, "test", note: null, possible: true, clock);
        var told = 0;
        for (; told < 10; told++)
        {
            try
            {
                await AttemptAsync(marks);
            }
            catch (PortException)
            {
                break;
            }

            clock.Seconds += 10;
        }

        Assert.Equal(5, told);
    }

    /// <summary>One attempt, begun and seen to its end: a refused line is known in a moment.</summary>
    private async Task AttemptAsync(LogHeartbeat marks)
    {
        for (var i = 0; i < 25; i++)
        {
            await marks.KeepAsync(new Core.Positions.LogPosition(1));
            await Task.Delay(20, cancellation);
        }
    }

    private sealed class SetClock : TimeProvider
    {
        public long Seconds { get; set; } = 1;

        public override long GetTimestamp() => Seconds * TimestampFrequency;
    }

    /// <summary>By the server's own log of statements.</summary>
    private static async Task<int> MarksAsync(Cluster server) =>
        (await File.ReadAllTextAsync(server.LogFile)).Split("pg_logical_emit_message(true").Length - 1;

    /// <summary>A mark is confirmed that was written after that place.</summary>
    private static Task WrittenAsync(Crossing crossing, string place) =>
        crossing.UntilAsync(
            () =>
                crossing
                    .From.AskAsync(
                        $"SELECT confirmed_flush_lsn > '{place}' FROM pg_replication_slots WHERE slot_name = '{crossing.From.Names.Slot}'"
                    )
                    .GetAwaiter()
                    .GetResult() == "True",
            "a mark"
        );
}
