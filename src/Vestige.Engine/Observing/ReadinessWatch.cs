using Microsoft.Extensions.Logging;
using Vestige.Core.Alerts;
using Vestige.Core.Readiness;
using Vestige.Engine.Alerting;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Observing;

/// <summary>
/// Checks from time to time whether what held when a crossing was started still does: a setting changed, a grant taken away.
/// </summary>
internal sealed class ReadinessWatch(EngineServices services, CrossingRegistry registry)
{
    private readonly IConnections connections = services.Connections;
    private readonly TimeProvider clock = services.Clock;
    private readonly ILogger logger = services.Logger;
    private readonly TimeSpan pause = services.Options.CheckEvery ?? TimeSpan.FromMinutes(10);

    public async Task RunAsync(CancellationToken ending)
    {
        await Task.Yield();
        while (!ending.IsCancellationRequested)
        {
            try
            {
                await Task.Delay(pause, clock, ending);
                foreach (var entry in registry.All)
                {
                    await LookAsync(entry, ending);
                }
            }
            catch (OperationCanceledException) when (ending.IsCancellationRequested)
            {
                return;
            }
        }
    }

    /// <summary>A source that cannot be reached says nothing of its readiness; that is told otherwise.</summary>
    private async Task LookAsync(CrossingEntry entry, CancellationToken ending)
    {
        if (entry.Worker is not { Running.IsCompleted: false } worker || worker.View is not { Following: true } view)
        {
            entry.NotReady = entry.NotReady is null ? null : [];
            return;
        }

        try
        {
            var definition = entry.Stored.Definition;
            var checks = await connections.Source(definition.Source).Log.CheckSourceAsync([.. view.Tables.Keys], ending);
            entry.NotReady =
            [
                .. checks.Select(definition.Judge).Where(check => !check.Ok).Select(check => Lost(entry.Name, definition.Source, check)),
            ];
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException)
        {
            logger.LogDebug(exception, "The readiness of {Crossing} could not be checked", entry.Name);
        }
    }

    private static Need Lost(string crossing, string source, ReadinessCheck check) =>
        new(
            NeedKind.ReadinessLost,
            crossing,
            check.Step,
            $"{source}, {check.Step}: {check.Found}; needed: {check.Needed}.",
            "The crossing may stop when it meets it, or cannot be started again.",
            check.Remedy
        );
}
