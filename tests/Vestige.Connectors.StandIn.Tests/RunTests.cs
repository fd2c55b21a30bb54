using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Engine.Events;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>What is written down of each run: how much it carried, whence and whereto, and why it ended.</summary>
public sealed class RunTests : IAsyncDisposable
{
    private const string Name = "copy";
    private readonly TwoStandIns systems = new();
    private readonly KeptRuns runs = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public ValueTask DisposeAsync() => systems.DisposeAsync();

    [Fact]
    public async Task A_run_is_counted_while_it_goes_on_and_when_it_has_ended()
    {
        await FollowAsync();
        await systems.RunAsync(
            systems.A,
            "INSERT INTO t VALUES (3, 'c'), (4, 'd'), (5, 'e'); UPDATE t SET v = 'z' WHERE id = 1; DELETE FROM t WHERE id = 2"
        );
        await systems.WaitAsync(() => Now is { Inserts: 3, Updates: 1, Deletes: 1 } run && run.To == systems.A.Head, "the counts");
        Assert.Equal((2, 0, "", null), (Now!.RowsLoaded, Now.Others, Now.Why, Now.EndedAt));
        await systems.Engine.PauseAsync(Name, "night shift", cancellation);
        await systems.WaitAsync(() => runs.All.Any(run => run.EndedAt is not null), "the end of the run");
        var first = Assert.Single(runs.All);
        Assert.Equal(
            (2, 3, 1, 1, "paused by night shift", systems.A.Head),
            (first.RowsLoaded, first.Inserts, first.Updates, first.Deletes, first.Why, first.To!.Value)
        );
        Assert.Null(Now);

        // The next one begins where that ended, and counts again.
        await systems.Engine.RunAsync(Name, "day shift", cancellation);
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (6, 'f')");
        await systems.WaitAsync(() => Now is { Inserts: 1 }, "the next run");
        Assert.Equal((0, 0, first.To, "day shift"), (Now!.RowsLoaded, Now.Deletes, Now.From, Now.By));
    }

    [Fact]
    public async Task Runs_that_the_schedule_begins_are_its_own()
    {
        await FollowAsync();
        await systems.Engine.PaceAsync(
            Name,
            definition => definition with { Schedule = new RunSchedule(EverySeconds: 1) },
            "test",
            cancellation
        );
        await systems.WaitAsync(() => runs.All.Count(run => run.EndedAt is not null) >= 2, "two runs");
        var ended = runs.All.Where(run => run.EndedAt is not null).OrderBy(run => run.BeganAt).ToList();
        Assert.Equal(["test", "the schedule"], ended.Take(2).Select(run => run.By));
        Assert.All(ended, run => Assert.Equal("all that was committed when it began is applied", run.Why));
    }

    [Fact]
    public async Task A_run_is_over_also_where_the_next_begins_before_anybody_has_looked()
    {
        await FollowAsync();
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (3, 'c'); CREATE TABLE u (id INTEGER PRIMARY KEY)");
        await systems.WaitAsync(() => Now is { Inserts: 1 }, "the counts");
        systems.B.Drills.Delay = TimeSpan.FromMilliseconds(400);
        await systems.Engine.PauseAsync(Name, "night shift", cancellation);
        await systems.Engine.RunAsync(Name, "day shift", cancellation);
        await systems.Engine.ChangeAsync(
            systems.Engine.Status(Name)!.Definition with
            {
                Tables = new TableRules([new TableRule(Take: "*")]),
            },
            "architect",
            cancellation
        );
        systems.B.Drills.Delay = TimeSpan.Zero;
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (4, 'd'), (5, 'e')");
        await systems.WaitAsync(() => Now is { Inserts: 2 }, "the last run");
        var all = runs.All.OrderBy(run => run.BeganAt).ToList();
        Assert.Equal(["paused by night shift", "started again", ""], all.Select(run => run.Why));
        Assert.Equal([true, true, false], all.Select(run => run.EndedAt is not null));
        Assert.Equal((1, 0), (all[0].Inserts, all[1].Inserts));
        Assert.Equal(all[0].To, all[1].To);
    }

    [Fact]
    public async Task What_a_run_carried_is_kept_when_the_process_ends()
    {
        await FollowAsync();
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (3, 'c')");
        await systems.WaitAsync(() => Now is { Inserts: 1 }, "the counts");
        await systems.Engine.DisposeAsync();
        var ended = Assert.Single(runs.All);
        Assert.Equal((2, 1, CrossingRun.ProcessEnded), (ended.RowsLoaded, ended.Inserts, ended.Why));
        Assert.NotNull(ended.EndedAt);
        await systems.BeginAsync(runs: runs);
        await systems.WaitAsync(() => Now is { From: not null } run && run.From == ended.To, "the run that goes on from there");
    }

    /// <summary>A process that is killed writes nothing any more: what it wrote in passing is what is known.</summary>
    [Fact]
    public async Task A_run_that_goes_on_is_written_down_each_minute()
    {
        var clock = new AheadClock();
        await FollowAsync(clock);
        await systems.RunAsync(systems.A, "INSERT INTO t VALUES (3, 'c')");
        await systems.WaitAsync(() => Now is { Inserts: 1 }, "the counts");
        clock.Ahead = TimeSpan.FromMinutes(1);
        await systems.WaitAsync(
            () => runs.All is [{ Inserts: 1, RowsLoaded: 2, EndedAt: null, Why: "" } kept] && kept.To == systems.A.Head,
            "what is kept of the run"
        );
    }

    private CrossingRun? Now => systems.Engine.RunNow(Name);

    private async Task FollowAsync(TimeProvider? clock = null)
    {
        await systems.RunAsync(systems.A, "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'a'), (2, 'b')");
        await systems.BeginAsync(runs: runs, clock: clock);
        await systems.Engine.DefineAsync(
            new CrossingDefinition(Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.*")])),
            "test",
            cancellation
        );
        await systems.Engine.RunAsync(Name, "test", cancellation);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.State == CrossingState.Following, "following");
    }

    /// <summary>The system's time, and some more.</summary>
    private sealed class AheadClock : TimeProvider
    {
        public TimeSpan Ahead { get; set; }

        public override DateTimeOffset GetUtcNow() => base.GetUtcNow() + Ahead;
    }

    private sealed class KeptRuns : IRunStore
    {
        private readonly Lock gate = new();
        private readonly Dictionary<DateTimeOffset, CrossingRun> runs = [];

        public IReadOnlyList<CrossingRun> All
        {
            get
            {
                lock (gate)
                {
                    return [.. runs.Values];
                }
            }
        }

        public Task KeepAsync(CrossingRun run, CancellationToken cancellation)
        {
            lock (gate)
            {
                runs[run.BeganAt] = run;
            }

            return Task.CompletedTask;
        }

        public Task CloseAsync(CancellationToken cancellation) => Task.CompletedTask;
    }
}
