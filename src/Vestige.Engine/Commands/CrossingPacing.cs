using Vestige.Core.Crossings;
using Vestige.Core.Text;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Observing;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Gives crossings another schedule, windows of rest, limit or tags while they go on.</summary>
internal sealed class CrossingPacing(IControlStore store, CrossingRegistry registry, CrossingOpener opener, EventLog events)
{
    public async Task PaceAsync(
        string crossing,
        Func<CrossingDefinition, CrossingDefinition> change,
        string by,
        CancellationToken cancellation
    )
    {
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        var definition = change(entry.Stored.Definition);
        CheckTimes(definition);
        if (DefinitionRules.Check(definition) is [var problem, ..])
        {
            throw new RequestRefusedException($"{problem.Field}: {problem.Found}.") { Remedy = problem.Remedy };
        }

        var stored = Under(entry.Stored, definition);
        await store.SaveAsync(stored, cancellation);
        entry.Stored = stored;
        var schedule = definition.Schedule is { } set ? set.Words : "always";
        var windows = string.Join("; ", (definition.Rest ?? []).Select(window => window.Words));
        await events.OfCrossingAsync(
            crossing,
            EventKind.Note,
            $"Runs {schedule}"
                + (definition.ChangesPerSecond is { } limit ? $", at most {Figures.Rate(limit)} changes a second" : "")
                + (windows.Length > 0 ? $", nothing is applied {windows}" : "")
                + ".",
            by
        );
        await BringInForceAsync(entry, cancellation);
    }

    /// <summary>A crossing under another definition: without a schedule, where its run would have ended is no mark any more.</summary>
    public static StoredCrossing Under(StoredCrossing stored, CrossingDefinition definition) =>
        stored with
        {
            Definition = definition,
            Until = stored.Desired == DesiredState.Run && definition.Schedule is null ? null : stored.Until,
        };

    /// <summary>
    /// Lets the worker at hand, if there is one, go by the pace that is stored. Without a schedule it continues where its run would have
    /// ended; with a new one, this is its first run.
    /// </summary>
    /// <param name="entry">The crossing, whose turn the caller has.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task BringInForceAsync(CrossingEntry entry, CancellationToken cancellation)
    {
        if (entry.Stored.Desired != DesiredState.Run || entry.Worker is not { Running.IsCompleted: false } worker)
        {
            return;
        }

        var scheduled = entry.Stored.Definition.Schedule is not null;
        if (!scheduled && worker.IsOneRun)
        {
            worker.IsOneRun = false;
            worker.Steering.GoOn();
        }
        else if (scheduled && !worker.IsOneRun)
        {
            await opener.EndRunAsync(entry, worker, cancellation);
        }

        worker.Steering.Changed.Beat();
    }

    /// <summary>Throws <see cref="RequestRefusedException"/> for times that cannot be understood.</summary>
    public static void CheckTimes(CrossingDefinition definition)
    {
        if (definition.Schedule is { } schedule)
        {
            CronTimes.Check(schedule);
        }

        if (definition.Reconcile?.Times is { } times)
        {
            CronTimes.Check(times);
        }
    }
}
