using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Engine.Capturing;
using Vestige.Engine.Commands;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Observing;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Workers;

/// <summary>Opens what a crossing needs, its capture and its place on the target, and sets its worker going.</summary>
internal sealed class CrossingOpener(EngineServices services, CrossingRegistry registry, Captures captures, RunRecorder runs) : IDisposable
{
    private readonly IConnections connections = services.Connections;
    private readonly IControlStore store = services.Stores.Control;
    private readonly EventLog events = services.Events;
    private readonly TimeProvider clock = services.Clock;
    private readonly Random random = services.Random;
    private readonly ILogger logger = services.Logger;
    private readonly CancellationTokenSource ending = new();

    /// <summary>Nothing is opened any more.</summary>
    public void End() => ending.Cancel();

    /// <summary>
    /// Opens what the crossing needs. Where that fails now, it is tried again by itself until it works or something else is
    /// asked; one spool or target that cannot be reached keeps nobody else from starting.
    /// </summary>
    /// <param name="entry">The crossing.</param>
    /// <param name="cancellation">Gives up the first try.</param>
    /// <param name="beginRun">Whether a run of its schedule begins now, if it has one; otherwise one that was interrupted goes on.</param>
    /// <param name="by">Who or what begins it; null for whoever last asked something of the crossing.</param>
    public async Task OpenAsync(CrossingEntry entry, CancellationToken cancellation, bool beginRun = false, string? by = null)
    {
        if (!await TryOpenAsync(entry, beginRun, by, cancellation))
        {
            _ = OpenLaterAsync(entry, beginRun, by);
        }
    }

    /// <summary>Lets a worker end its run with what is committed now, and keeps that through a restart.</summary>
    public async Task EndRunAsync(CrossingEntry entry, CrossingWorker worker, CancellationToken cancellation)
    {
        var head = await BranchReads.HeadAsync(
            connections.Source(entry.Stored.Definition.Source),
            captures.Find(entry.Stored.Definition.Source)?.Spool,
            cancellation
        );
        worker.IsOneRun = true;
        worker.Steering.Stop(new StopRequest(StopMode.Drain, new StopMark(head)));
        entry.Stored = entry.Stored with { Until = new StopMark(head) };
        await store.SaveAsync(entry.Stored, cancellation);
    }

    private async Task<bool> TryOpenAsync(CrossingEntry entry, bool beginRun, string? by, CancellationToken cancellation)
    {
        try
        {
            await OpenOnceAsync(entry, beginRun, by, cancellation);
            entry.Trouble = null;
            return true;
        }
        catch (Exception exception) when (exception is not (OperationCanceledException or OutOfMemoryException))
        {
            // Whatever is broken about one crossing, its connections or its spool is said at it, and keeps nobody else from starting.
            logger.LogWarning(FailureLog.StackOf(exception), "{Crossing} could not be opened: {Reason}", entry.Name, exception.Message);
            entry.Trouble = new CrossingFault(
                exception.Message,
                (exception as PortException)?.Remedy ?? (exception as RequestRefusedException)?.Remedy,
                entry.Trouble?.Since ?? clock.GetUtcNow()
            )
            {
                IsLasting = !WorkerTroubles.MayPass(exception),
            };
            return false;
        }
    }

    private async Task OpenLaterAsync(CrossingEntry entry, bool beginRun, string? by)
    {
        IDisposable? locked = null;
        try
        {
            for (var attempt = 1; ; attempt++)
            {
                // Under the crossing's lock: the caller's at first, then that of the last attempt.
                var (asked, pause) = (entry.Stored, RetryPause.Before(attempt, random));
                entry.Trouble = entry.Trouble is { } trouble ? trouble with { NextAttempt = clock.GetUtcNow() + pause } : null;
                locked?.Dispose();
                locked = null;
                await Pause.ForAsync(pause, clock, ending.Token, entry.Retry.Next);
                ending.Token.ThrowIfCancellationRequested();
                locked = await entry.Lock.EnterAsync(ending.Token);
                if (entry.IsRemoved || !ReferenceEquals(entry.Stored, asked) || await TryOpenAsync(entry, beginRun, by, ending.Token))
                {
                    return;
                }
            }
        }
        catch (OperationCanceledException)
        {
            // The end of the process.
        }
        finally
        {
            locked?.Dispose();
        }
    }

    /// <summary>
    /// Opens the capture, so that the place is kept, and starts the worker if the crossing is to run and none works for it yet: two would
    /// not know of each other's quarantine.
    /// </summary>
    private async Task OpenOnceAsync(CrossingEntry entry, bool beginRun, string? by, CancellationToken cancellation)
    {
        if (entry.Worker is { Running.IsCompleted: false })
        {
            return;
        }

        var definition = entry.Stored.Definition;
        var holding = registry
            .All.Where(other => other.Stored.Definition.Source == definition.Source && other.Stored.NeedsLog)
            .Select(other => other.Name);
        var capture = await captures.OpenAsync(definition.Source, holding, cancellation);
        var scheduled = entry.Stored.Desired == DesiredState.Run && definition.Schedule is not null;
        entry.NextRun =
            scheduled && !beginRun && entry.Stored.Until is null
                ? CronTimes.Next(definition.Schedule!, entry.RunEndedAt, clock.GetUtcNow())
                : null;
        if (!entry.Stored.Runs || entry.NextRun is not null)
        {
            entry.Meter.RestBegins(OwnRest.Pause, entry.Stored.Since);
            await KnowAsync(entry, entry.Worker, capture, cancellation);
            return;
        }

        await StartAsync(entry, capture, scheduled, by, cancellation);
    }

    /// <summary>Sets a worker going.</summary>
    private async Task StartAsync(CrossingEntry entry, Capture capture, bool scheduled, string? by, CancellationToken cancellation)
    {
        var worker = new CrossingWorker(ContextOf(entry, entry.Stored.Definition, capture), entry, store, random);
        if (entry.Stored.Until is { } mark)
        {
            // A run of a schedule that was interrupted continues to where it was to end, and is one run still.
            worker.IsOneRun = scheduled;
            worker.Steering.Stop(new StopRequest(StopMode.Drain, mark));
        }
        else if (scheduled)
        {
            // A run carries what is committed as it begins.
            await EndRunAsync(entry, worker, cancellation);
        }

        var begin = await runs.BeginAsync(entry, entry.Progress.Position, by ?? entry.Stored.By);

        // Started first: one that has not begun looks like one at rest.
        worker.Start();
        entry.RunBy(worker);
        _ = AfterAsync(entry, worker, capture, entry.Meter.Applied, begin);
    }

    private WorkerContext ContextOf(CrossingEntry entry, CrossingDefinition definition, Capture capture)
    {
        var (source, target) = (connections.Source(definition.Source), connections.Target(definition.Target));
        return new WorkerContext
        {
            Treating = new CrossingTreatment(definition, source, target, services.Secrets.Masks),
            Source = source,
            Target = target,
            Capture = capture,
            State = new WorkerState(),
            FirstStart = entry.FirstStart,
            Meter = entry.Meter,
            Quarantine = entry.Quarantine,
            Rule = () => entry.Stored.Definition.Quarantine,
            LoadLag = () => entry.Stored.Definition.LoadLag,
            Verdicts = entry.Verdicts,
            Repairs = entry.Repairs,
            Rewinds = entry.Rewinds,
            Events = events,
            Clock = clock,
            Logger = logger,
        };
    }

    /// <summary>When a worker has ended by itself, what the target then holds is read once more, for the pages.</summary>
    private async Task AfterAsync(CrossingEntry entry, CrossingWorker worker, Capture capture, long applied, RunBegin begin)
    {
        await worker.Running;
        if (ending.IsCancellationRequested)
        {
            return;
        }

        // Whoever asked for this has stored it by the time of our turn.
        using (await entry.Lock.EnterAsync(ending.Token))
        {
            await runs.EndAsync(entry, worker, begin);
        }

        // The target may take long to answer: others have their turn meanwhile, and may set another to work.
        await KnowAsync(entry, worker, capture, ending.Token);
        using var locked = await entry.Lock.EnterAsync(ending.Token);
        if (entry.Worker == worker)
        {
            await SettleAsync(entry, worker, capture, applied, begin);
        }
    }

    /// <summary>Does what the end of a worker means for its crossing. In the crossing's turn.</summary>
    private async Task SettleAsync(CrossingEntry entry, CrossingWorker worker, Capture capture, long applied, RunBegin begin)
    {
        var position = entry.Known?.Position is { } at ? connections.Source(entry.Stored.Definition.Source).Log.Format(at) : null;
        switch (entry.Stored.Desired)
        {
            case DesiredState.Run when worker.Finished:
                await FinishAsync(entry, capture);
                break;
            case DesiredState.Run when worker.View.Fault is null && worker.HasMadeItsRun:
                await PassMarkAsync(entry);
                await Scheduler.EndedAsync(entry, events, entry.Meter.Applied - applied, begin.At, clock.GetUtcNow(), position);
                entry.NextRun ??= clock.GetUtcNow();
                break;
            case DesiredState.Run when worker.View.Fault is null && worker.Steering.Request is null:
                // It came to rest at a mark while that was being taken back.
                await OpenAsync(entry, ending.Token);
                break;
            case DesiredState.Stop or DesiredState.Pause:
                if (entry.Stored.Desired == DesiredState.Stop && worker.View.Fault is null)
                {
                    await PassMarkAsync(entry);
                }

                await events.OfCrossingAsync(
                    entry.Name,
                    EventKind.Note,
                    (entry.Stored.Desired == DesiredState.Stop ? "Stopped" : "Paused")
                        + (position is null ? "." : $" at position {position}.")
                );
                break;
        }
    }

    /// <summary>A mark that was reached, or the end of a run, is not gone to again after a restart.</summary>
    private async Task PassMarkAsync(CrossingEntry entry)
    {
        if (entry.Stored.Until is not null)
        {
            entry.Stored = entry.Stored with { Until = null };
            await store.SaveAsync(entry.Stored, ending.Token);
        }
    }

    /// <summary>The target has all it was to get: the source need not keep its log for it.</summary>
    private async Task FinishAsync(CrossingEntry entry, Capture capture)
    {
        var source = entry.Stored.Definition.Source;
        entry.Stored = entry.Stored with { Desired = DesiredState.Finish, Since = clock.GetUtcNow() };
        await store.SaveAsync(entry.Stored, ending.Token);
        capture.Spool.Release(entry.Name);
        await events.OfCrossingAsync(entry.Name, EventKind.Note, "Finished.");
        if (!registry.All.Any(other => other.Stored.Definition.Source == source && other.Stored.NeedsLog))
        {
            await captures.EndAsync(source, ending.Token);
        }
    }

    /// <summary>Asks the target how far a crossing is that does not run, and keeps that place in the spool.</summary>
    /// <param name="entry">The crossing.</param>
    /// <param name="rested">
    /// The worker that was seen to be at rest, null for none: where another is started meanwhile, the answer is out of date.
    /// </param>
    /// <param name="capture">The capture of its source.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task KnowAsync(CrossingEntry entry, CrossingWorker? rested, Capture capture, CancellationToken cancellation)
    {
        if (entry.Worker != rested)
        {
            return;
        }

        try
        {
            var progress = await connections.Target(entry.Stored.Definition.Target).Progress.ReadProgressAsync(entry.Name, cancellation);
            progress = progress.Match(capture.Spool.Branches);
            if (entry.Learn(progress, rested))
            {
                capture.Spool.Retain(
                    entry.Name,
                    entry.Stored.Desired == DesiredState.KeepLog
                        ? LogRetention.AfterOf(entry.Stored.Definition, capture.Spool)
                        : progress.NeededAfter,
                    progress.WantedAfter
                );
            }
        }
        catch (Exception exception) when (exception is PortException or OperationCanceledException)
        {
            logger.LogDebug(exception, "The place of {Crossing} could not be read from its target", entry.Name);
        }
    }

    public void Dispose() => ending.Dispose();
}
