using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Brings crossings to rest, as <see cref="CrossingEngine"/> says.</summary>
/// <param name="connections">The systems.</param>
/// <param name="captures">The reading of sources.</param>
/// <param name="registry">The crossings.</param>
/// <param name="desire">Stores what is asked of a crossing.</param>
/// <param name="events">Gets what happens.</param>
/// <param name="clock">Times that are still to come are told by it.</param>
internal sealed class CrossingRest(
    IConnections connections,
    Captures captures,
    CrossingRegistry registry,
    Func<CrossingEntry, DesiredState, string, StopMark?, CancellationToken, Task> desire,
    EventLog events,
    TimeProvider clock
)
{
    private const int TriesForNow = 20;

    public Task PauseAsync(string crossing, string by, CancellationToken cancellation) =>
        RestAsync(crossing, DesiredState.Pause, new StopRequest(StopMode.Transaction), "Paused", by, cancellation);

    public Task StopAsync(string crossing, StopMode mode, string by, CancellationToken cancellation)
    {
        var end = captures.Find(registry.Existing(crossing).Stored.Definition.Source)?.Spool.Last ?? LogPosition.Zero;
        var request = mode == StopMode.Drain ? new StopRequest(mode, new StopMark(end)) : new StopRequest(mode);
        return RestAsync(crossing, DesiredState.Stop, request, $"Stop requested: {StopMarks.Words(mode)}", by, cancellation);
    }

    public async Task StopAtAsync(string crossing, StopMark? wanted, string by, CancellationToken cancellation)
    {
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        var source = connections.Source(entry.Stored.Definition.Source);
        var worker = StopMarks.WorkerOf(entry);
        if (wanted is not null)
        {
            await StopMarks.CheckAsync(
                entry,
                worker,
                wanted,
                connections.Target(entry.Stored.Definition.Target),
                captures.Find(entry.Stored.Definition.Source)?.Spool,
                clock,
                cancellation
            );
        }

        for (var tries = 1; ; tries++)
        {
            var mark = wanted
                ?? new StopMark(await BranchReads.HeadAsync(source, captures.Find(entry.Stored.Definition.Source)?.Spool, cancellation));
            if (worker.TryStop(mark))
            {
                await KeepMarkAsync(entry, worker, mark, by);
                await events.OfCrossingAsync(crossing, EventKind.Note, $"Stop requested: {StopMarks.Words(mark, source)}.", by);
                return;
            }

            // What was committed just now may be in hand by the time its position is known; the next position is a later one.
            if (wanted is not null || tries == TriesForNow)
            {
                throw new RequestRefusedException(
                    $"What is applied or in hand goes beyond the mark already: {StopMarks.Words(mark, source)}."
                )
                {
                    Remedy = "Give a later one.",
                };
            }
        }
    }

    /// <summary>It is asked before it is stored, since the mark would be passed meanwhile; what cannot be stored is taken back.</summary>
    private async Task KeepMarkAsync(CrossingEntry entry, CrossingWorker worker, StopMark mark, string by)
    {
        try
        {
            await desire(entry, DesiredState.Stop, by, mark, CancellationToken.None);
        }
        catch
        {
            worker.Steering.GoOn();
            throw;
        }
    }

    private async Task RestAsync(
        string crossing,
        DesiredState desired,
        StopRequest request,
        string what,
        string by,
        CancellationToken cancellation
    )
    {
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        if (!entry.Stored.Begun)
        {
            throw new RequestRefusedException($"{crossing} is a draft.") { Remedy = "Nothing needs to be done." };
        }

        if (entry.Stored.Desired == DesiredState.Finish)
        {
            throw new RequestRefusedException($"{crossing} is finished.") { Remedy = "Nothing needs to be done." };
        }

        await desire(entry, desired, by, entry.Worker is { Running.IsCompleted: false } ? request.Mark : null, cancellation);
        await events.OfCrossingAsync(crossing, EventKind.Note, $"{what}.", by);
        if (request.Mode == StopMode.Drain && entry.Worker is { Running.IsCompleted: false } worker)
        {
            worker.Steering.Stop(request);
            return;
        }

        await entry.HaltAsync(request);
    }
}
