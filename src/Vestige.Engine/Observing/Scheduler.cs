using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Text;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Observing;

/// <summary>
/// Begins the runs of crossings that have a schedule. A run is never begun while one goes on; a time that passes meanwhile is passed over.
/// </summary>
internal sealed class Scheduler(CrossingRegistry registry, CrossingOpener opener, TimeProvider clock, ILogger logger)
{
    private const string By = "the schedule";
    private static readonly TimeSpan LookEvery = TimeSpan.FromSeconds(1);

    public async Task RunAsync(CancellationToken ending)
    {
        await Task.Yield();
        while (!ending.IsCancellationRequested)
        {
            try
            {
                await Task.Delay(LookEvery, clock, ending);
                foreach (var entry in registry.All.Where(IsResting))
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

    /// <summary>
    /// One that is to run, has a schedule, or had one when its last run began, and whose run is over. A fault is a person's to end.
    /// </summary>
    private static bool IsResting(CrossingEntry entry) =>
        entry.Stored.Desired == DesiredState.Run
        && entry.Trouble is null
        && entry.NextRun is not null
        && entry.Worker is null or { Running.IsCompleted: true, View.Fault: null };

    private async Task LookAsync(CrossingEntry entry, CancellationToken ending)
    {
        var now = clock.GetUtcNow();
        var schedule = entry.Stored.Definition.Schedule;
        entry.Plan(schedule is null ? now : CronTimes.Next(schedule, entry.RunEndedAt, now));
        if (entry.NextRun is not { } next || next > now)
        {
            return;
        }

        using var locked = await entry.Lock.EnterAsync(ending);
        if (entry.IsRemoved || !IsResting(entry))
        {
            return;
        }

        try
        {
            await opener.OpenAsync(entry, ending, beginRun: true, schedule is null ? null : By);
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException)
        {
            logger.LogWarning(exception, "A run of {Crossing} could not be begun", entry.Name);
            entry.RunEndedAt = now;
        }
    }

    /// <summary>A run is over: says so, and when the next begins.</summary>
    public static async Task EndedAsync(
        CrossingEntry entry,
        EventLog events,
        long changes,
        DateTimeOffset began,
        DateTimeOffset now,
        string? position
    )
    {
        var missed =
            entry.Stored.Definition.Schedule is { Cron: not null } schedule
            && CronTimes.Next(schedule, began, began) is { } due
            && due < now;
        entry.RunEndedAt = now;
        entry.NextRun = entry.Stored.Definition.Schedule is { } after ? CronTimes.Next(after, now, now) : null;
        var next = entry.NextRun is { } at ? $" The next begins at {at.UtcDateTime:yyyy-MM-dd HH:mm:ss} UTC." : "";
        await events.OfCrossingAsync(
            entry.Name,
            EventKind.Note,
            $"Run over after {Figures.Duration(now - began)}, "
                + Figures.Of(changes, "change")
                + (position is null ? "." : $", up to position {position}.")
                + (missed ? " A time of the schedule passed meanwhile." : "")
                + next
        );
    }
}
