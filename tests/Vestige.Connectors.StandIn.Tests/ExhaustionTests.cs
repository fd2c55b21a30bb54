using Vestige.Core.Alerts;
using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Engine.Alerting;
using Vestige.Engine.Measuring;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>Whose rest fills the spool, and what is told of it.</summary>
public sealed class ExhaustionTests : IAsyncLifetime
{
    private const string Other = "other";
    private readonly PacedCrossing crossing = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private int rows;

    public async ValueTask InitializeAsync() => await crossing.BeginAsync();

    public ValueTask DisposeAsync() => crossing.DisposeAsync();

    [Fact]
    public async Task A_crossing_at_rest_fills_the_spool_for_all_of_its_source_and_alone_is_told_of()
    {
        await crossing.Systems.RunAsync(crossing.Systems.A, "CREATE TABLE u (id INTEGER PRIMARY KEY)");
        await crossing.StartAsync(definition => definition);
        await crossing.Systems.Engine.DefineAsync(
            new CrossingDefinition(Other, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.u")])),
            "test",
            cancellation
        );
        await crossing.Systems.Engine.RunAsync(Other, "test", cancellation);
        await UntilAsync(
            () => crossing.Status.State == CrossingState.Following && Rests.State == CrossingState.Following,
            "both following"
        );
        await UntilAsync(() => crossing.Status.Exhaustion == LogExhaustion.None && Rests.Exhaustion == LogExhaustion.None, "nothing ahead");

        await crossing.Systems.Engine.PauseAsync(Other, "test", cancellation);
        await UntilAsync(() => Rests.Exhaustion.SpoolFull.In is not null && crossing.Status.ExhaustedBy == Other, "the spool to fill");
        var (full, lost) = (Rests.Exhaustion.SpoolFull, Rests.Exhaustion.LogLost);
        Assert.True(full.Soonest <= full.In && !(full.Latest < full.In) && full.In < lost.In, $"{full}, {lost}");
        Assert.Equal((Clearing.AtRest, false, null), (Rests.Clears.Outcome, Rests.AtWork, Rests.ExhaustedBy));
        Assert.NotNull(crossing.Status.Exhaustion.SpoolFull.In);
        Assert.Contains(NeedReader.Of(Rests, DateTimeOffset.UtcNow), need => need is { Kind: NeedKind.LogLoss, Time: not null });
        Assert.DoesNotContain(NeedReader.Of(crossing.Status, DateTimeOffset.UtcNow), need => need.Kind == NeedKind.LogLoss);

        await crossing.Systems.Engine.RunAsync(Other, "test", cancellation);
        await UntilAsync(
            () => crossing.Status.Exhaustion == LogExhaustion.None && Rests.Exhaustion == LogExhaustion.None,
            "nothing ahead any more"
        );
    }

    /// <summary>What was seen in a window says nothing of what it can do after.</summary>
    [Fact]
    public async Task In_a_window_of_rest_nothing_is_forecast_to_clear_and_no_capacity_is_seen()
    {
        await crossing.StartAsync(definition => definition);
        await crossing.FollowsAsync();
        var now = TimeOnly.FromDateTime(DateTime.UtcNow);
        await crossing.PaceAsync(definition => definition with { Rest = [new RestWindow(now.AddHours(-1), now.AddHours(1))] });
        var begun = DateTimeOffset.UtcNow;
        await UntilAsync(
            () =>
                crossing.Status is { Backlog: > 0, Clears.Outcome: Clearing.AtRest }
                && DateTimeOffset.UtcNow - begun > TimeSpan.FromSeconds(4),
            "some seconds of rest"
        );
        Assert.Null(crossing.Status.Clears.Applied);
        Assert.NotNull(crossing.Status.Exhaustion.SpoolFull.In);
    }

    /// <summary>Its limit is its capacity: most seconds of a crossing that is held by one see nothing applied for a part.</summary>
    [Fact]
    public async Task Under_a_limit_the_backlog_clears_by_that()
    {
        await crossing.StartAsync(definition => definition);
        await crossing.FollowsAsync();
        await crossing.Systems.Engine.PauseAsync(PacedCrossing.Name, "test", cancellation);
        await crossing.InsertAsync(1, 150);
        await crossing.PaceAsync(definition => definition with { ChangesPerSecond = 10 });
        await crossing.RunAsync();
        await crossing.WaitAsync(() => crossing.Count() is > 60 and < 120, "a part of it");
        var status = crossing.Status;
        Assert.Equal(Clearing.Clears, status.Clears.Outcome);
        Assert.InRange(status.Clears.Applied!.Value, 5, 20);
        Assert.InRange(status.Clears.In!.Value.TotalSeconds, status.Backlog / 20.0, status.Backlog / 5.0);
        Assert.Null(status.Exhaustion.SpoolFull.In);
    }

    private CrossingStatus Rests => crossing.Systems.Engine.Status(Other)!;

    /// <summary>Waits while the source continues committing.</summary>
    private async Task UntilAsync(Func<bool> holds, string what)
    {
        for (var until = DateTimeOffset.UtcNow.AddSeconds(180); !holds(); await Task.Delay(50, cancellation))
        {
            Assert.True(DateTimeOffset.UtcNow < until, $"waited in vain for {what}: {Rests?.Exhaustion}, {crossing.Status.Exhaustion}");
            rows++;
            await crossing.InsertAsync(rows, rows);
        }
    }
}
