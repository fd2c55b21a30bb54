using Vestige.Core.Alerts;
using Vestige.Core.Crossings;
using Vestige.Engine.Alerting;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>Runs of a schedule that something comes between.</summary>
public sealed class ScheduledRunTests : IAsyncLifetime
{
    private static readonly RunSchedule Yearly = new(Cron: "0 3 1 1 *");
    private static readonly TableRules One = new([new TableRule(Take: "a.t")]);
    private static readonly TableRules Both = new([new TableRule(Take: "a.*")]);
    private readonly PacedCrossing crossing = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync() => await crossing.BeginAsync();

    public ValueTask DisposeAsync() => crossing.DisposeAsync();

    [Fact]
    public async Task A_schedule_comes_and_goes_with_a_table()
    {
        await crossing.Systems.RunAsync(crossing.Systems.A, "CREATE TABLE u (id INTEGER PRIMARY KEY); INSERT INTO u VALUES (1)");
        await crossing.StartAsync(definition => definition);
        await crossing.FollowsAsync();
        await crossing.ChangeAsync(definition => definition with { Schedule = Yearly, Tables = Both });
        await crossing.WaitAsync(() => crossing.NextRun is not null && Tables() == 2, "the first run, with the table that came");
        await BeginSlowRunAsync(1);
        await crossing.ChangeAsync(definition => definition with { Schedule = null, ChangesPerSecond = null, Tables = One });
        await crossing.InsertAsync(21, 21);
        await crossing.WaitAsync(
            () => crossing.Count() == 22 && crossing.Status.State == CrossingState.Following,
            "following without a schedule"
        );
        await Task.Delay(1500, cancellation);
        Assert.Equal((CrossingState.Following, null), (crossing.Status.State, crossing.NextRun));
    }

    [Fact]
    public async Task A_run_that_another_definition_interrupts_goes_on_to_its_end()
    {
        await crossing.Systems.RunAsync(crossing.Systems.A, "CREATE TABLE u (id INTEGER PRIMARY KEY); INSERT INTO u VALUES (1)");
        await crossing.StartAsync(definition => definition with { Schedule = Yearly });
        await crossing.WaitAsync(() => crossing.NextRun is not null, "the first run to end");
        await BeginSlowRunAsync(1);
        await crossing.ChangeAsync(definition => definition with { Tables = Both });
        await crossing.WaitAsync(() => Tables() == 2, "the table that came");
        Assert.InRange(crossing.Count(), 1, 20);
        Assert.Null(crossing.NextRun);
        await crossing.PaceAsync(definition => definition with { ChangesPerSecond = null });
        await crossing.WaitAsync(() => crossing.Count() == 21 && crossing.NextRun is not null, "the end of the run");
    }

    [Fact]
    public async Task A_table_made_between_two_runs_comes_with_the_next()
    {
        await crossing.StartAsync(definition =>
            definition with
            {
                Schedule = Yearly,
                Tables = new TableRules([new TableRule(Take: "a.*")], Future: true),
            }
        );
        await crossing.WaitAsync(() => crossing.NextRun is not null, "the first run to end");
        await crossing.Systems.RunAsync(crossing.Systems.A, "CREATE TABLE u (id INTEGER PRIMARY KEY); INSERT INTO u VALUES (1)");
        await crossing.WaitAsync(
            () =>
                crossing.Systems.Engine.Events.Latest.Any(one => one.Text.StartsWith("Takes 1 table made later", StringComparison.Ordinal)),
            "the table to be taken"
        );
        Assert.Equal(1, Tables());
        Assert.NotNull(crossing.NextRun);
        await crossing.RunAsync();
        await crossing.WaitAsync(() => Tables() == 2 && crossing.NextRun is not null, "the run with it");
    }

    [Fact]
    public async Task What_is_known_of_its_tables_stays_while_a_run_begins()
    {
        await crossing.StartAsync(definition => definition with { Schedule = new RunSchedule(EverySeconds: 1) });
        await crossing.WaitAsync(() => crossing.NextRun is not null, "the first run to end");
        crossing.Systems.B.Drills.Delay = TimeSpan.FromMilliseconds(300);
        var runs = 0;
        for (var until = DateTimeOffset.UtcNow.AddSeconds(120); runs < 2; await Task.Delay(5, cancellation))
        {
            Assert.Single(crossing.Status.Tables);
            Assert.True(DateTimeOffset.UtcNow < until, "no second run");
            runs +=
                crossing.Systems.Engine.Events.Latest.Count(one => one.Text.StartsWith("Run over", StringComparison.Ordinal)) > runs + 1
                    ? 1
                    : 0;
        }
    }

    [Fact]
    public async Task Between_two_runs_it_is_not_late()
    {
        await crossing.StartAsync(definition => definition with { Schedule = Yearly });
        await crossing.WaitAsync(() => crossing.NextRun is not null, "the first run to end");
        await crossing.InsertAsync(1, 3);
        await crossing.WaitAsync(() => crossing.Status.Lag is { Current: false, Behind.TotalSeconds: > 1 }, "to be behind");
        Assert.DoesNotContain(NeedReader.Of(crossing.Status, DateTimeOffset.UtcNow), need => need.Kind == NeedKind.Lag);
        await crossing.Systems.Engine.PauseAsync(PacedCrossing.Name, "test", cancellation);
        Assert.Contains(NeedReader.Of(crossing.Status, DateTimeOffset.UtcNow), need => need.Kind == NeedKind.Lag);

        // A window of rest is planned as well; after it, the same lag is not.
        await crossing.PaceAsync(definition => definition with { Schedule = null });
        var now = TimeOnly.FromDateTime(DateTime.UtcNow);
        var window = new RestWindow(now.AddHours(-1), now.AddHours(1));
        await crossing.PaceAsync(definition => definition with { Rest = [window] });
        Assert.DoesNotContain(NeedReader.Of(crossing.Status, DateTimeOffset.UtcNow), need => need.Kind == NeedKind.Lag);
        Assert.Contains(NeedReader.Of(crossing.Status, DateTimeOffset.UtcNow.AddHours(2)), need => need.Kind == NeedKind.Lag);
    }

    [Fact]
    public async Task A_run_that_was_interrupted_goes_on_and_is_followed_by_the_next()
    {
        await crossing.StartAsync(definition => definition with { Schedule = new RunSchedule(EverySeconds: 1) });
        await crossing.WaitAsync(() => crossing.NextRun is not null, "the first run to end");
        crossing.Systems.B.Drills.Delay = TimeSpan.FromSeconds(4);
        await crossing.InsertAsync(1, 1);
        await crossing.WaitAsync(() => crossing.NextRun is null, "the second run");
        await crossing.Systems.Engine.DisposeAsync();
        crossing.Systems.B.Drills.Delay = TimeSpan.Zero;
        await crossing.Systems.BeginAsync();
        await crossing.WaitAsync(() => crossing.Count() == 2 && crossing.NextRun is not null, "the end of the run that was interrupted");
        await crossing.InsertAsync(2, 2);
        await crossing.WaitAsync(() => crossing.Count() == 3, "the run after it");
    }

    [Fact]
    public async Task A_run_whose_stop_is_taken_back_is_one_run_still()
    {
        await crossing.StartAsync(definition => definition with { Schedule = new RunSchedule(EverySeconds: 1) });
        await crossing.WaitAsync(() => crossing.NextRun is not null, "the first run to end");
        crossing.Systems.B.Drills.Delay = TimeSpan.FromSeconds(3);
        await crossing.InsertAsync(1, 1);
        await crossing.WaitAsync(() => crossing.NextRun is null, "the second run");
        await crossing.Systems.Engine.StopAsync(PacedCrossing.Name, StopMode.Drain, "test", cancellation);
        await crossing.RunAsync();
        crossing.Systems.B.Drills.Delay = TimeSpan.Zero;
        await crossing.WaitAsync(() => crossing.Count() == 2 && crossing.NextRun is not null, "its end");
    }

    /// <summary>A run that takes some seconds, since it is held to a few changes in each.</summary>
    private async Task BeginSlowRunAsync(int from)
    {
        await crossing.PaceAsync(definition => definition with { ChangesPerSecond = 1 });
        await crossing.InsertAsync(from, from + 19);
        await crossing.RunAsync();
        await crossing.WaitAsync(() => crossing.NextRun is null && crossing.Count() > from, "a part of a slow run");
    }

    private int Tables() =>
        int.Parse(crossing.Systems.Rows("b.db", "SELECT CAST(count(*) AS TEXT) FROM sqlite_master WHERE name IN ('t', 'u')")[0]);
}
