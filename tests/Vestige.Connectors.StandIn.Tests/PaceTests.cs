using System.Diagnostics;
using Vestige.Core.Crossings;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>When nothing is applied, and how fast at most.</summary>
public sealed class PaceTests : IAsyncLifetime
{
    private readonly PacedCrossing crossing = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public async ValueTask InitializeAsync() => await crossing.BeginAsync();

    public ValueTask DisposeAsync() => crossing.DisposeAsync();

    [Fact]
    public async Task In_a_window_of_rest_nothing_is_applied_and_the_log_is_read()
    {
        await crossing.StartAsync(definition => definition);
        await crossing.FollowsAsync();
        var now = TimeOnly.FromDateTime(DateTime.UtcNow);
        await crossing.PaceAsync(definition => definition with { Rest = [new RestWindow(now.AddHours(-1), now.AddHours(1))] });
        await crossing.InsertAsync(1, 3);
        await crossing.WaitAsync(
            () => crossing.Status.Capture!.Spooled >= crossing.Systems.A.Head && crossing.Status.Resting is not null,
            "the log read and the rest"
        );
        await Task.Delay(1500, cancellation);
        Assert.InRange(crossing.Count(), 1, 2);
        await crossing.PaceAsync(definition => definition with { Rest = null });
        await crossing.WaitAsync(() => crossing.Count() == 4, "what waited");
    }

    [Fact]
    public async Task No_more_changes_are_applied_a_second_than_the_limit_lets()
    {
        await crossing.StartAsync(definition => definition with { ChangesPerSecond = 200 });
        await crossing.FollowsAsync();
        var began = Stopwatch.StartNew();
        for (var i = 0; i < 100; i++)
        {
            await crossing.InsertAsync((10 * i) + 1, (10 * i) + 10);
        }

        await crossing.WaitAsync(() => crossing.Count() == 1001, "all of it");

        // A second's worth may go at once, the other 800 take four more.
        Assert.True(began.Elapsed > TimeSpan.FromSeconds(3.5), $"{began.Elapsed}");
    }
}
