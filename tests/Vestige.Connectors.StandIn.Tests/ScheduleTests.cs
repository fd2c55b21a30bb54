using System.Diagnostics;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>When a crossing runs.</summary>
public sealed class ScheduleTests : IAsyncLifetime
{
    private readonly PacedCrossing crossing = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync() => await crossing.BeginAsync();

    public ValueTask DisposeAsync() => crossing.DisposeAsync();

    [Fact]
    public async Task Runs_follow_each_other_some_time_after_each_has_ended_and_outlive_the_process()
    {
        await crossing.StartAsync(definition => definition with { Schedule = new RunSchedule(EverySeconds: 4) });
        await crossing.WaitAsync(() => crossing.NextRun is not null && crossing.Count() == 1, "the first run to end");
        await crossing.InsertAsync(1, 5);
        Assert.Equal(1, crossing.Count());
        await crossing.WaitAsync(() => crossing.Count() == 6, "the second run");
        await crossing.WaitAsync(() => crossing.NextRun is not null, "its end");
        Assert.Equal(CrossingState.Stopped, crossing.Status.State);
        var ended = DateTimeOffset.UtcNow;
        Assert.InRange(crossing.NextRun!.Value, ended, ended.AddSeconds(4));

        // A run that takes longer than the pause is not overtaken by another.
        crossing.Systems.B.Drills.Delay = TimeSpan.FromSeconds(3);
        await crossing.InsertAsync(6, 8);
        await crossing.WaitAsync(() => crossing.NextRun is null, "the third run");
        var slow = Stopwatch.StartNew();
        await crossing.WaitAsync(() => crossing.NextRun is not null, "its end");
        Assert.True(slow.Elapsed > TimeSpan.FromSeconds(2));
        crossing.Systems.B.Drills.Delay = TimeSpan.Zero;
        Assert.Equal(9, crossing.Count());

        await crossing.Systems.Engine.DisposeAsync();
        await crossing.InsertAsync(9, 9);
        await crossing.Systems.BeginAsync();
        await crossing.WaitAsync(() => crossing.Count() == 10, "a run after the restart");
        await crossing.PaceAsync(definition => definition with { Schedule = null });
        await crossing.WaitAsync(() => crossing.Status.State == CrossingState.Following, "following without a schedule");
        await crossing.InsertAsync(10, 10);
        await crossing.WaitAsync(() => crossing.Count() == 11, "what follows");
    }

    [Fact]
    public async Task A_schedule_given_to_a_running_crossing_lets_it_rest_until_its_time()
    {
        await crossing.StartAsync(definition => definition);
        await crossing.FollowsAsync();
        await crossing.PaceAsync(definition => definition with { Schedule = new RunSchedule(Cron: "0 3 1 1 *") });
        await crossing.WaitAsync(() => crossing.NextRun is not null, "the rest");
        Assert.Equal((1, 1, 3), (crossing.NextRun!.Value.Month, crossing.NextRun.Value.Day, crossing.NextRun.Value.Hour));
        await crossing.InsertAsync(1, 3);
        await Task.Delay(2500, cancellation);
        Assert.Equal(1, crossing.Count());

        // After a restart it waits for its time as well; a person may run it before.
        await crossing.Systems.Engine.DisposeAsync();
        await crossing.Systems.BeginAsync();
        await Task.Delay(1500, cancellation);
        Assert.Equal(1, crossing.Count());
        await crossing.RunAsync();
        await crossing.WaitAsync(() => crossing.Count() == 4 && crossing.NextRun is not null, "the run that was asked for");
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            crossing.PaceAsync(definition => definition with { Schedule = new RunSchedule(Cron: "61 * * * *") })
        );
        await Assert.ThrowsAsync<RequestRefusedException>(() =>
            crossing.PaceAsync(definition => definition with { Schedule = new RunSchedule(EverySeconds: 0) })
        );
    }

    [Fact]
    public async Task A_schedule_in_another_definition_is_in_force_at_once()
    {
        await crossing.StartAsync(definition => definition);
        await crossing.FollowsAsync();
        await crossing.ChangeAsync(definition => definition with { Schedule = new RunSchedule(Cron: "0 3 1 1 *") });
        await crossing.WaitAsync(() => crossing.NextRun is not null, "the rest");
        await crossing.InsertAsync(1, 3);
        await Task.Delay(1500, cancellation);
        Assert.Equal(1, crossing.Count());
        await crossing.ChangeAsync(definition => definition with { Schedule = new RunSchedule(EverySeconds: 2) });
        await crossing.WaitAsync(() => crossing.Count() == 4, "a run by the other schedule");
        await crossing.ChangeAsync(definition => definition with { Schedule = null });
        await crossing.WaitAsync(() => crossing.Status.State == CrossingState.Following, "following without a schedule");
        await crossing.InsertAsync(4, 4);
        await crossing.WaitAsync(() => crossing.Count() == 5, "what follows");
    }
}
