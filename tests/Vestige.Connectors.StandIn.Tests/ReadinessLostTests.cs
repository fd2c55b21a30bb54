using System.Collections.Concurrent;
using Vestige.Core.Alerts;
using Vestige.Core.Crossings;
using Vestige.Engine.Alerting;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>What held when a crossing was started and does not any more is told, and told to be over.</summary>
public sealed class ReadinessLostTests : IAsyncDisposable
{
    private readonly TwoStandIns systems = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public ValueTask DisposeAsync() => systems.DisposeAsync();

    [Fact]
    public async Task A_source_that_is_not_ready_any_more_is_an_alert_until_it_is()
    {
        await systems.RunAsync(systems.A, "CREATE TABLE t (id INTEGER PRIMARY KEY)");
        await systems.BeginAsync(new KeptAlerts());
        await systems.Engine.DefineAsync(
            new CrossingDefinition("copy", CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: "a.t")])),
            "test",
            cancellation
        );
        await systems.Engine.RunAsync("copy", "test", cancellation);
        await systems.WaitAsync(() => systems.Engine.Status("copy")!.State == CrossingState.Following, "following");
        Assert.DoesNotContain(systems.Engine.Alerts!.Standing, alert => alert.Need.Kind == NeedKind.ReadinessLost);
        systems.A.Drills.ReaderStopped = true;
        await systems.WaitAsync(
            () =>
                systems.Engine.Alerts!.Standing.Any(alert =>
                    alert.Need is { Kind: NeedKind.ReadinessLost, Crossing: "copy" }
                    && alert.Need.What.Contains("the log cannot be read", StringComparison.Ordinal)
                ),
            "the alert"
        );
        systems.A.Drills.ReaderStopped = false;
        await systems.WaitAsync(() => systems.Engine.Alerts!.Standing.All(alert => alert.Need.Kind != NeedKind.ReadinessLost), "its end");
    }

    private sealed class KeptAlerts : IAlertStore
    {
        private readonly ConcurrentDictionary<long, Alert> kept = new();

        public Task<AlertSettings> ReadSettingsAsync(CancellationToken cancellation) => Task.FromResult(AlertSettings.Default);

        public Task<(IReadOnlyList<Alert> Standing, long LastNumber)> ReadAsync(CancellationToken cancellation) =>
            Task.FromResult<(IReadOnlyList<Alert>, long)>(([], 0));

        public Task WriteAsync(Alert alert, IReadOnlyList<AlertMessage> messages, CancellationToken cancellation)
        {
            kept[alert.Number] = alert;
            return Task.CompletedTask;
        }
    }
}
