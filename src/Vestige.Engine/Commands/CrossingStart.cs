using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Text;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Starts crossings, lets them go on, and keeps the log for those that start later, as <see cref="CrossingEngine"/> says.
/// </summary>
internal sealed class CrossingStart(
    IConnections connections,
    CrossingRegistry registry,
    CrossingOpener opener,
    LogRetention retention,
    Func<CrossingDefinition, CancellationToken, Task<CrossingPlan>> plan,
    Func<CrossingEntry, DesiredState, string, StopMark?, CancellationToken, Task> desire,
    EventLog events
)
{
    public async Task RunAsync(string crossing, string by, string? typed, CancellationToken cancellation)
    {
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        if (entry.Worker is { Running.IsCompleted: false } running)
        {
            if (entry.Stored is not { Desired: DesiredState.Stop, Until: not null })
            {
                throw new RequestRefusedException($"{crossing} is running.") { Remedy = "Nothing needs to be done." };
            }

            await desire(entry, DesiredState.Run, by, null, cancellation);
            await events.OfCrossingAsync(crossing, EventKind.Note, "Resumed without the mark.", by);
            await GoOnAsync(entry, running, cancellation);
            return;
        }

        if (entry.Stored.Desired == DesiredState.Finish)
        {
            throw new RequestRefusedException($"{crossing} is finished: the target has what it was to get.")
            {
                Remedy = "Load it again, or make another crossing.",
            };
        }

        if (!entry.Stored.Begun)
        {
            await CheckAsync(entry, typed, cancellation);
            entry.FirstStart.Pending = true;
        }

        var rested = entry.Stored.Desired == DesiredState.Pause;
        await desire(entry, DesiredState.Run, by, null, cancellation);
        await events.OfCrossingAsync(crossing, EventKind.Note, rested ? "Resumed." : "Started.", by);
        await opener.OpenAsync(entry, cancellation, beginRun: true);
    }

    public async Task<LogPosition> KeepLogAsync(string crossing, string by, CancellationToken cancellation)
    {
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        var definition = entry.Stored.Definition;
        if (entry.Stored.Begun || definition.Kind != StartKind.Changes)
        {
            throw new RequestRefusedException(
                entry.Stored.Begun
                    ? $"{crossing} has been started: what it needs of the log is kept."
                    : $"{crossing} loads rows itself, and keeps the log from then on."
            )
            {
                Remedy = "Nothing needs to be done.",
            };
        }

        var tables = await retention.TablesAsync(definition, cancellation);
        await desire(entry, DesiredState.KeepLog, by, null, cancellation);
        await opener.OpenAsync(entry, cancellation);
        var after = await retention.KeepAsync(entry, tables, cancellation);
        await events.OfCrossingAsync(
            crossing,
            EventKind.Note,
            $"All changes of {Figures.Of(tables.Count, "table")} after position "
                + $"{connections.Source(definition.Source).Log.Format(after)} are kept.",
            by
        );
        return after;
    }

    private async Task CheckAsync(CrossingEntry entry, string? typed, CancellationToken cancellation)
    {
        entry.Checking = true;
        try
        {
            var planned = await plan(entry.Stored.Definition, cancellation);
            if (!planned.Ready)
            {
                throw new NotReadyException(planned.Checks);
            }

            LossRefusedException.ThrowUnlessAgreed(entry.Name, planned.Checks, typed);
        }
        finally
        {
            entry.Checking = false;
        }
    }

    /// <summary>What was to stop at a mark continues: always, or, by its schedule, to the end of this run.</summary>
    private async Task GoOnAsync(CrossingEntry entry, CrossingWorker worker, CancellationToken cancellation)
    {
        if (entry.Stored.Definition.Schedule is null)
        {
            worker.Steering.GoOn();
        }
        else
        {
            await opener.EndRunAsync(entry, worker, cancellation);
        }
    }
}
