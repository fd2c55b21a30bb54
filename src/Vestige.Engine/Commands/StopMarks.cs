using System.Globalization;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Marks at which crossings are asked to stop.</summary>
internal static class StopMarks
{
    /// <summary>The worker that can be asked; throws <see cref="RequestRefusedException"/> for a crossing that does not run.</summary>
    public static CrossingWorker WorkerOf(CrossingEntry entry) =>
        entry.Worker is { Running.IsCompleted: false } worker
            ? worker
            : throw new RequestRefusedException($"{entry.Name} does not run.") { Remedy = "Resume it, then set the mark." };

    /// <summary>Throws <see cref="RequestRefusedException"/> for a mark that the target may have passed already.</summary>
    public static async Task CheckAsync(
        CrossingEntry entry,
        CrossingWorker worker,
        StopMark mark,
        TargetSystem target,
        Spool? spool,
        TimeProvider clock,
        CancellationToken cancellation
    )
    {
        // A worker that has only begun does not know yet where it stands; one that loads will stand somewhere before the present end.
        var applied = worker.View.Applied
            ?? (await target.Progress.ReadProgressAsync(entry.Name, cancellation)).Match(spool?.Branches ?? []).Position;
        var least = applied ?? spool?.Last;
        if (mark.Position < least)
        {
            throw new RequestRefusedException(
                $"What is {(applied is null ? "being loaded" : "applied already")} goes beyond that position."
            )
            {
                Remedy = "Give a later position.",
            };
        }

        if (mark.Time is not { } time)
        {
            return;
        }

        var spooled = applied is { } at && spool is not null ? await spool.LocateAsync(at, cancellation) : null;
        var next = spooled?.NextCommittedAt ?? clock.GetUtcNow();
        if (time < next)
        {
            throw new RequestRefusedException(
                "All that was committed by then is applied already, and perhaps more: what comes next was committed at "
                    + $"{next.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss.fff 'UTC'", CultureInfo.InvariantCulture)} or later."
            )
            {
                Remedy = "Give a later time, or a position.",
            };
        }
    }

    /// <summary>How it is asked to stop, for the events.</summary>
    public static string Words(StopMode mode) =>
        mode switch
        {
            StopMode.Drain => "drain",
            StopMode.Transaction => "after this transaction",
            _ => "at once",
        };

    /// <summary>Where it is asked to stop.</summary>
    public static string Words(StopMark mark, SourceSystem source) =>
        mark.Position is { } position
            ? $"at position {source.Log.Format(position)}"
            : $"at {mark.Time!.Value.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss 'UTC'", CultureInfo.InvariantCulture)}";
}
