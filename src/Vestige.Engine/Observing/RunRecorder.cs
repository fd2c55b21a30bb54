using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Observing;

/// <summary>
/// Writes down each run of a crossing with its counts, whence and whereto it went, and why it ended. What cannot be written stops nothing.
/// </summary>
internal sealed class RunRecorder(IRunStore? store, TimeProvider clock, ILogger logger)
{
    private static readonly TimeSpan KeepEvery = TimeSpan.FromMinutes(1);
    private readonly AsyncLock turn = new();
    private readonly Dictionary<string, CrossingRun> kept = [];
    private DateTimeOffset keptAt = clock.GetUtcNow();

    /// <summary>
    /// A run begins. One whose worker has ended, and of which that is not written down yet, is over with it. In the crossing's turn.
    /// </summary>
    public async Task<RunBegin> BeginAsync(CrossingEntry entry, LogPosition? from, string by)
    {
        if (entry is { Run: { } last, Worker: { } worker })
        {
            await EndAsync(entry, worker, last);
        }

        var begin = new RunBegin(clock.GetUtcNow(), by, from, entry.Meter.Counts);
        entry.Run = begin;
        await KeepAsync(Of(entry, begin));
        return begin;
    }

    /// <summary>It is over, unless that was written down before. In the crossing's turn.</summary>
    public Task EndAsync(CrossingEntry entry, CrossingWorker worker, RunBegin begin)
    {
        if (entry.Run != begin)
        {
            return Task.CompletedTask;
        }

        entry.Run = null;
        return KeepAsync(Of(entry, begin) with { EndedAt = clock.GetUtcNow(), Why = Why(entry, worker) });
    }

    /// <summary>
    /// Once a minute those that go on are written down as far as they have come, so that the end of a process which is killed takes no more
    /// with it. Called by one caller.
    /// </summary>
    public async Task KeepNowAsync(IEnumerable<CrossingEntry> entries)
    {
        if (store is null || clock.GetUtcNow() - keptAt < KeepEvery)
        {
            return;
        }

        keptAt = clock.GetUtcNow();
        foreach (var entry in entries)
        {
            // One that ends just now is not to be written over as if it went on.
            using var mine = await turn.EnterAsync(CancellationToken.None);
            if (Now(entry) is { } run && kept.GetValueOrDefault(run.Crossing) != run)
            {
                kept[run.Crossing] = run;
                await WriteAsync(run);
            }
        }
    }

    /// <summary>It is over, since the process ends.</summary>
    public Task CloseAsync(CrossingEntry entry) =>
        entry.Run is { } begin
            ? KeepAsync(Of(entry, begin) with { EndedAt = clock.GetUtcNow(), Why = CrossingRun.ProcessEnded })
            : Task.CompletedTask;

    /// <summary>The run that continues, as far as it has come; null between runs.</summary>
    public static CrossingRun? Now(CrossingEntry entry) => entry.Run is { } begin ? Of(entry, begin) : null;

    private static CrossingRun Of(CrossingEntry entry, RunBegin begin)
    {
        var counts = entry.Meter.Counts - begin.Counts;
        return new CrossingRun(
            entry.Name,
            begin.At,
            begin.By,
            null,
            begin.From ?? entry.Worker?.Found,
            entry.Progress.Position,
            counts.Loaded,
            counts.Inserts,
            counts.Updates,
            counts.Deletes,
            counts.Others,
            ""
        );
    }

    private static string Why(CrossingEntry entry, CrossingWorker worker) =>
        entry.Stored.Desired switch
        {
            _ when worker.View.Fault is { } fault => $"faulted: {fault.What}",
            _ when worker.Finished => "finished",
            DesiredState.Pause => $"paused by {entry.Stored.By}",
            DesiredState.Stop => $"stopped by {entry.Stored.By}",
            _ when worker.HasMadeItsRun => "all that was committed when it began is applied",
            _ => "started again",
        };

    private async Task KeepAsync(CrossingRun run)
    {
        if (store is not null)
        {
            using var mine = await turn.EnterAsync(CancellationToken.None);
            await WriteAsync(run);
        }
    }

    private async Task WriteAsync(CrossingRun run)
    {
        try
        {
            await store!.KeepAsync(run, CancellationToken.None);
        }
        catch (Exception exception) when (exception is PortException or IOException)
        {
            logger.LogWarning(exception, "A run of {Crossing} could not be written down", run.Crossing);
        }
    }
}
