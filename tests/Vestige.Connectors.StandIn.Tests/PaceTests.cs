using System.Diagnostics;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>When a crossing runs, when nothing is applied, and how fast at most.</summary>
public sealed class PaceTests : IAsyncLifetime
{
    private const string Name = "copy";
    private readonly TwoStandIns systems = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync()
    {
        await systems.RunAsync(systems.A, "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (0, 'loaded')");
        await systems.BeginAsync();
    }

    public ValueTask DisposeAsync() => systems.DisposeAsync();

    [Fact]
    public async Task Runs_follow_each_other_some_time_after_each_has_ended_and_outlive_the_process()
    {
        await StartAsync(definition => definition with { Schedule = new RunSchedule(EverySeconds: 2) });
        await systems.WaitAsync(() => NextRun is not null && Count() == 1, "the first run to end");
        await InsertAsync(1, 5);
        Assert.Equal(1, Count());
        await systems.WaitAsync(() => Count() == 6, "the second run");
        await systems.WaitAsync(() => NextRun is not null, "its end");
        Assert.Equal(CrossingState.Stopped, systems.Engine.Status(Name)!.State);
        var ended = DateTimeOffset.UtcNow;
        Assert.InRange(NextRun!.Value, ended, ended.AddSeconds(2));

        // A run that takes longer than the pause is not overtaken by another.
        systems.B.Drills.Delay = TimeSpan.FromSeconds(3);
        await InsertAsync(6, 8);
        await systems.WaitAsync(() => NextRun is null, "the third run");
        var slow = Stopwatch.StartNew();
        await systems.WaitAsync(() => NextRun is not null, "its end");
        Assert.True(slow.Elapsed > TimeSpan.FromSeconds(2));
        systems.B.Drills.Delay = TimeSpan.Zero;
        Assert.Equal(9, Count());

        await systems.Engine.DisposeAsync();
        await InsertAsync(9, 9);
        await systems.BeginAsync();
        await systems.WaitAsync(() => Count() == 10, "a run after the restart");
        await systems.Engine.PaceAsync(Name, definition => definition with { Schedule = null }, "test", cancellation);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.State == CrossingState.Following, "following without a schedule");
        await InsertAsync(10, 10);
        await systems.WaitAsync(() => Count() == 11, "what follows");
    }

    [Fact]
    public async Task A_schedule_given_to_a_running_crossing_lets_it_rest_until_its_time()
    {
        await StartAsync(definition => definition);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.State == CrossingState.Following, "following");
        await systems.Engine.PaceAsync(Name, definition => definition with { Schedule = new RunSchedule(Cron: "0 3 1 1 *") }, "test", cancellation);
        await systems.WaitAsync(() => NextRun is not null, "the rest");
        Assert.Equal((1, 1, 3), (NextRun!.Value.Month, NextRun.Value.Day, NextRun.Value.Hour));
        await InsertAsync(1, 3);
        await Task.Delay(2500, cancellation);
        Assert.Equal(1, Count());

        // After a restart it waits for its time as well; a person may run it before.
        await systems.Engine.DisposeAsync();
        await systems.BeginAsync();
        await Task.Delay(1500, cancellation);
        Assert.Equal(1, Count());
        await systems.Engine.RunAsync(Name, "test", cancellation);
        await systems.WaitAsync(() => Count() == 4 && NextRun is not null, "the run that was asked for");
        await Assert.ThrowsAsync<RequestRefusedException>(() => systems.Engine.PaceAsync(Name, definition => definition with { Schedule = new RunSchedule(Cron: "61 * * * *") }, "test", cancellation));
        await Assert.ThrowsAsync<RequestRefusedException>(() => systems.Engine.PaceAsync(Name, definition => definition with { Schedule = new RunSchedule(EverySeconds: 0) }, "test", cancellation));
    }

    [Fact]
    public async Task In_a_window_of_rest_nothing_is_applied_and_the_log_is_read()
    {
        await StartAsync(definition => definition);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.State == CrossingState.Following, "following");
        var now = TimeOnly.FromDateTime(DateTime.UtcNow);
        await systems.Engine.PaceAsync(Name, definition => definition with { Rest = [new RestWindow(now.AddHours(-1), now.AddHours(1))] }, "test", cancellation);
        await InsertAsync(1, 3);
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.Capture!.Spooled >= systems.A.Head && systems.Engine.Status(Name)!.Resting is not null, "the log read and the rest");
        await Task.Delay(1500, cancellation);
        Assert.InRange(Count(), 1, 2);
        await systems.Engine.PaceAsync(Name, definition => definition with { Rest = null }, "test", cancellation);
        await systems.WaitAsync(() => Count() == 4, "what waited", 45);
    }

    [Fact]
    public async Task No_more_changes_are_applied_a_second_than_the_limit_lets()
    {
        await StartAsync(definition => definition with { ChangesPerSecond = 200 });
        await systems.WaitAsync(() => systems.Engine.Status(Name)!.State == CrossingState.Following, "following");
        for (var i = 0; i < 100; i++)
        {
            await InsertAsync((10 * i) + 1, (10 * i) + 10);
        }

        var began = Stopwatch.StartNew();
        await systems.WaitAsync(() => Count() == 1001, "all of it");

        // A second's worth may go at once; what came while the rows were written is not counted here.
        Assert.True(began.Elapsed > TimeSpan.FromSeconds(1.5), $"{began.Elapsed}");
    }

    private DateTimeOffset? NextRun => systems.Engine.Status(Name)!.NextRun;

    private int Count() => int.Parse(systems.Rows("b.db", "SELECT CAST(count(*) AS TEXT) FROM t")[0]);

    private async Task InsertAsync(int from, int to)
    {
        for (var i = from; i <= to; i++)
        {
            await systems.RunAsync(systems.A, $"INSERT INTO t VALUES ({i}, 'row')");
        }
    }

    private async Task StartAsync(Func<CrossingDefinition, CrossingDefinition> with)
    {
        await systems.Engine.DefineAsync(with(new CrossingDefinition(Name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.t")]))), "test", cancellation);
        await systems.Engine.RunAsync(Name, "test", cancellation);
    }
}
