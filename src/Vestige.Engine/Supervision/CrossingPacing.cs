using Vestige.Core.Crossings;
using Vestige.Core.Text;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Supervision;

/// <summary>Gives crossings another schedule, windows of rest, limit or tags while they go on.</summary>
internal sealed class CrossingPacing(IControlStore store, CrossingBook book, CrossingOpener opener, EventLog events)
{
    public async Task PaceAsync(string crossing, Func<CrossingDefinition, CrossingDefinition> change, string by, CancellationToken cancellation)
    {
        var entry = book.Existing(crossing);
        using var turn = await entry.Turn.EnterAsync(cancellation);
        var definition = change(entry.Stored.Definition);
        CheckTimes(definition);
        if (DefinitionRules.Check(definition) is [var problem, ..])
        {
            throw new RequestRefusedException($"{problem.Field}: {problem.Found}.") { Mend = problem.Mend };
        }

        var (runs, had) = (entry.Stored.Desired == DesiredState.Run, entry.Stored.Definition.Schedule is not null);
        var stored = entry.Stored with { Definition = definition, Until = runs && definition.Schedule is null ? null : entry.Stored.Until };
        await store.SaveAsync(stored, cancellation);
        entry.Stored = stored;
        var schedule = definition.Schedule is { } set ? set.Words : "always";
        await events.OfCrossingAsync(crossing, EventKind.Note, $"Runs {schedule}{(definition.ChangesPerSecond is { } limit ? $", at most {Figures.Rate(limit)} changes a second" : "")}{(definition.Rest is { Count: > 0 } rest ? $", nothing is applied {string.Join("; ", rest.Select(window => window.Words))}" : "")}.", by);
        if (runs && entry.Worker is { Running.IsCompleted: false } worker)
        {
            await PaceAsync(entry, worker, had, cancellation);
            worker.Steering.Changed.Beat();
        }
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

    /// <summary>Without a schedule it goes on where its run would have ended; with a new one, this is its first run.</summary>
    private async Task PaceAsync(CrossingEntry entry, CrossingWorker worker, bool had, CancellationToken cancellation)
    {
        var scheduled = entry.Stored.Definition.Schedule is not null;
        if (had && !scheduled)
        {
            worker.IsOneRun = false;
            worker.Steering.GoOn();
        }
        else if (scheduled && !had)
        {
            await opener.EndRunAsync(entry, worker, cancellation);
        }
    }
}
