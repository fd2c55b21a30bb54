using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Supervision;

/// <summary>Writes down each run of a crossing with its counts, whence and whereto it went, and why it ended. What cannot be written stops nothing.</summary>
internal sealed class RunKeeper(IRunStore? store, TimeProvider clock, ILogger logger)
{
    /// <summary>A run begins.</summary>
    public async Task<RunBegin> BeginAsync(CrossingEntry entry, LogPosition? from)
    {
        var begin = new RunBegin(clock.GetUtcNow(), entry.Stored.By, from, entry.Meter.Counts);
        await KeepAsync(new CrossingRun(entry.Name, begin.At, begin.By, null, from, null, 0, 0, 0, 0, 0, ""));
        return begin;
    }

    /// <summary>It is over.</summary>
    public Task EndAsync(CrossingEntry entry, CrossingWorker worker, RunBegin begin)
    {
        var counts = entry.Meter.Counts - begin.Counts;
        return KeepAsync(new CrossingRun(entry.Name, begin.At, begin.By, clock.GetUtcNow(), begin.From, entry.Progress.Position, counts.Loaded, counts.Inserts, counts.Updates, counts.Deletes, counts.Others, Why(entry, worker)));
    }

    private static string Why(CrossingEntry entry, CrossingWorker worker) => entry.Stored.Desired switch
    {
        _ when worker.View.Fault is { } fault => $"faulted: {fault.What}",
        _ when worker.Finished => "finished",
        DesiredState.Pause => $"paused by {entry.Stored.By}",
        DesiredState.Stop => $"stopped by {entry.Stored.By}",
        _ when worker.IsOneRun => "all that was committed when it began is applied",
        _ => "begun anew",
    };

    private async Task KeepAsync(CrossingRun run)
    {
        try
        {
            await (store?.KeepAsync(run, CancellationToken.None) ?? Task.CompletedTask);
        }
        catch (Exception exception) when (exception is PortException or IOException)
        {
            logger.LogWarning(exception, "A run of {Crossing} could not be written down", run.Crossing);
        }
    }
}
