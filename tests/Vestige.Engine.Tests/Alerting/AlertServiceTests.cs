using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Core.Alerts;
using Vestige.Engine.Alerting;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Tests.Doubles;
using Xunit;

namespace Vestige.Engine.Tests.Alerting;

/// <summary>What is raised, told, acknowledged and over.</summary>
public sealed class AlertServiceTests
{
    private readonly SteppedClock clock = new(new DateTimeOffset(2026, 3, 1, 21, 59, 0, TimeSpan.Zero));
    private readonly KeptAlerts store = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    [Fact]
    public async Task It_is_told_once_when_raised_and_once_when_over_through_a_restart()
    {
        var keeper = await BeginAsync();
        await LookAsync(keeper, Faulted("disk full"));
        await LookAsync(keeper, Faulted("disk full still"));
        Assert.Equal("disk full still", Assert.Single(keeper.Standing).Need.What);
        keeper = await BeginAsync();
        await LookAsync(keeper, Faulted("disk full still"));
        Assert.Equal(["hook 1 raised"], store.Sent);
        await keeper.AcknowledgeAsync(1, "on it ", "ann", cancellation);
        Assert.Equal(("ann", "on it"), (keeper.Standing[0].AcknowledgedBy, keeper.Standing[0].Note));
        await LookAsync(keeper, []);
        Assert.Empty(keeper.Standing);
        Assert.Equal(clock.GetUtcNow(), Assert.Single(keeper.Ending).OverAt);
        clock.Step(TimeSpan.FromSeconds(10));
        await LookAsync(keeper, []);
        Assert.Empty(keeper.Standing);
        Assert.Empty(keeper.Ending);
        Assert.Equal(["hook 1 raised", "hook 1 over"], store.Sent);
        Assert.Equal(clock.GetUtcNow() - TimeSpan.FromSeconds(10), store.Kept[1].OverAt);
        for (var i = 0; i < 100; i++)
        {
            await LookAsync(keeper, []);
        }

        Assert.Equal(2, store.Sent.Count);
        await Assert.ThrowsAsync<RequestRefusedException>(() => keeper.AcknowledgeAsync(1, "", "ann", cancellation));
    }

    /// <summary>How many rows were met unexpectedly is counted from the start of the process.</summary>
    [Fact]
    public async Task That_rows_were_there_unexpectedly_is_not_over_because_the_process_was_restarted()
    {
        var unexpected = new Need(NeedKind.Unexpected, "copy", "public.t", "3 rows were there unexpectedly", "");
        var keeper = await BeginAsync();
        await LookAsync(keeper, unexpected);
        keeper = await BeginAsync();
        for (var i = 0; i < 3; i++)
        {
            await LookAsync(keeper);
            clock.Step(TimeSpan.FromMinutes(1));
        }

        Assert.Equal("3 rows were there unexpectedly", Assert.Single(keeper.Standing).Need.What);
        for (var i = 0; i < 3; i++)
        {
            await keeper.LookAsync(_ => true, [], (need, since) => need == unexpected && since < clock.GetUtcNow(), cancellation);
            clock.Step(TimeSpan.FromMinutes(1));
        }

        Assert.Empty(keeper.Standing);
    }

    [Fact]
    public async Task In_quiet_hours_only_what_must_be_is_told_and_what_still_stands_after_them()
    {
        var keeper = await BeginAsync();
        clock.Step(TimeSpan.FromHours(1));
        await LookAsync(keeper, Held("one"), Held("two"), Faulted("stop"));
        Assert.Equal(["hook 3 raised"], store.Sent);
        clock.Step(TimeSpan.FromHours(3));
        await LookAsync(keeper, Held("one"), Faulted("stop"));
        clock.Step(TimeSpan.FromSeconds(30));
        await LookAsync(keeper, Held("one"), Faulted("stop"));
        Assert.Equal(["hook 3 raised"], store.Sent);
        clock.Step(TimeSpan.FromHours(6));
        await LookAsync(keeper, Held("one"), Faulted("stop"));
        await LookAsync(keeper, Held("one"), Faulted("stop"));
        Assert.Equal(["hook 3 raised", "hook 1 raised"], store.Sent);
    }

    [Fact]
    public async Task A_lag_that_swings_around_its_limit_is_raised_once()
    {
        var keeper = await BeginAsync();
        for (var second = 0; second < 600; second++)
        {
            await LookAsync(
                keeper,
                new Need(NeedKind.Lag, "copy", null, "behind", "", Time: TimeSpan.FromSeconds(second < 10 ? 65 : 55 + (10 * (second % 2))))
            );
            clock.Step(TimeSpan.FromSeconds(1));
        }

        Assert.Equal(1, Assert.Single(keeper.Standing).Number);
        Assert.Single(store.Kept);
    }

    [Fact]
    public async Task What_comes_again_before_its_end_was_told_is_the_same_alert()
    {
        var keeper = await BeginAsync();
        await LookAsync(keeper, Faulted("stop"));
        await LookAsync(keeper, []);
        clock.Step(TimeSpan.FromSeconds(5));
        await LookAsync(keeper, Faulted("stop"));
        Assert.Equal(1, Assert.Single(keeper.Standing).Number);
        Assert.Empty(keeper.Ending);
        Assert.Equal(["hook 1 raised"], store.Sent);
    }

    [Fact]
    public async Task Tables_of_a_kind_are_one_alert_and_one_more_is_told_to_whoever_has_seen_it()
    {
        var keeper = await BeginAsync();
        await LookAsync(keeper, HeldTables("one"));
        await LookAsync(keeper, HeldTables("one", "two"));
        Assert.Equal(["one", "two"], Assert.Single(keeper.Standing).Need.Tables);
        Assert.Equal(["hook 1 raised"], store.Sent);
        await keeper.AcknowledgeAsync(1, "on it", "ann", cancellation);
        await LookAsync(keeper, HeldTables("two"));
        Assert.True(Assert.Single(keeper.Standing).Acknowledged);
        await LookAsync(keeper, HeldTables("two", "three"));
        Assert.False(Assert.Single(keeper.Standing).Acknowledged);
        Assert.Equal(["hook 1 raised", "hook 1 raised"], store.Sent);
        Assert.Null(store.Kept[1].AcknowledgedBy);
    }

    [Fact]
    public async Task Of_a_crossing_that_could_not_be_looked_at_all_stays_and_with_one_that_is_gone_it_is_over()
    {
        var keeper = await BeginAsync();
        await LookAsync(keeper, Faulted("stop"));
        clock.Step(TimeSpan.FromHours(1));
        await keeper.LookAsync(_ => false, [], (_, _) => false, cancellation);
        Assert.Single(keeper.Standing);
        await keeper.LookAsync(_ => null, [], (_, _) => false, cancellation);
        Assert.Empty(keeper.Standing);
    }

    private static Need Faulted(string what) => new(NeedKind.Faulted, "copy", null, what, "");

    private static Need HeldTables(params string[] tables) => new(NeedKind.Held, "copy", null, "held", "", Tables: tables);

    private static Need Held(string table) => new(NeedKind.Held, "copy", table, "held", "");

    private async Task<AlertService> BeginAsync()
    {
        var keeper = new AlertService(store, new EventLog(new MemoryStore(), clock, NullLogger.Instance), clock, NullLogger.Instance);
        await keeper.RecallAsync(cancellation);
        return keeper;
    }

    private Task LookAsync(AlertService keeper, params Need[] needs) => keeper.LookAsync(_ => true, needs, (_, _) => false, cancellation);

    private sealed class KeptAlerts : IAlertStore
    {
        public Dictionary<long, Alert> Kept { get; } = [];

        public List<string> Sent { get; } = [];

        private readonly AlertSettings settings = new(
            [
                new AlertRule(NeedKind.Faulted, OverAfterSeconds: 10, Channels: ["hook"], InQuietHours: true),
                new AlertRule(NeedKind.Held, OverAfterSeconds: 10, Channels: ["hook"]),
                new AlertRule(NeedKind.Lag, LimitSeconds: 60, ForSeconds: 5, OverAfterSeconds: 10),
            ],
            [],
            new QuietHours(new TimeOnly(22, 0), new TimeOnly(7, 0))
        );

        public Task<AlertSettings> ReadSettingsAsync(CancellationToken cancellation) => Task.FromResult(settings);

        public Task<(IReadOnlyList<Alert> Standing, long LastNumber)> ReadAsync(CancellationToken cancellation) =>
            Task.FromResult<(IReadOnlyList<Alert>, long)>(
                ([.. Kept.Values.Where(alert => alert.OverAt is null)], Kept.Keys.DefaultIfEmpty().Max())
            );

        public Task WriteAsync(Alert alert, IReadOnlyList<AlertMessage> messages, CancellationToken cancellation)
        {
            Kept[alert.Number] = alert;
            Sent.AddRange(
                messages.Select(message => $"{message.Channel} {alert.Number} {(message.Alert.OverAt is null ? "raised" : "over")}")
            );
            return Task.CompletedTask;
        }
    }

    private sealed class SteppedClock(DateTimeOffset now) : TimeProvider
    {
        private DateTimeOffset now = now;

        public override DateTimeOffset GetUtcNow() => now;

        public void Step(TimeSpan by) => now += by;
    }
}
