using Vestige.Core.Alerts;
using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Core.Text;
using Vestige.Engine.Measuring;

namespace Vestige.Engine.Alerting;

/// <summary>Reads out of how a crossing stands what a person may have to see to.</summary>
public static class NeedReader
{
    private const double NearlyFull = 0.8;
    private static readonly TimeSpan Silent = TimeSpan.FromSeconds(30);

    /// <summary>All that holds now.</summary>
    /// <param name="status">How it stands.</param>
    /// <param name="now">The moment.</param>
    public static IEnumerable<Need> Of(CrossingStatus status, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(status);
        if (status.State is CrossingState.Draft or CrossingState.Finished)
        {
            return [];
        }

        return [.. OfCrossing(status, now), .. OfSource(status, now), .. OfTables(status)];
    }

    private static IEnumerable<Need> OfCrossing(CrossingStatus status, DateTimeOffset now)
    {
        var kept = status.Capture is { Running: true }
            ? "What the source commits is taken into the spool meanwhile; the target grows older."
            : "Nothing is read from the source meanwhile; it keeps its log, and the target grows older.";
        if (status.Fault is { } fault)
        {
            yield return new Need(
                NeedKind.Faulted,
                status.Name,
                null,
                fault.What,
                fault.PlaceLost ? "What was committed since cannot follow without a new load." : kept,
                fault.Remedy
            );
        }
        else if (status.Waiting is { } waiting && status.Capture is not { Running: false })
        {
            yield return new Need(NeedKind.Waiting, status.Name, null, waiting.What, kept, waiting.Remedy ?? "It tries again by itself.");
        }

        if (status.Lag is { Current: false } lag && Runs(status) && !status.RestsAsPlanned(now))
        {
            yield return new Need(
                NeedKind.Lag,
                status.Name,
                null,
                $"{(lag.AtLeast ? "At least " : "")}{Figures.Duration(lag.Behind)} behind, {Figures.Of(status.Backlog, "change")} waiting.",
                "Whoever reads the target sees it as it was then.",
                status.Cause ?? "See where the delay sits.",
                lag.Behind
            );
        }

        if (status.Clears.Outcome == Clearing.Never && status.State == CrossingState.CatchingUp && !status.RestsAsPlanned(now))
        {
            yield return new Need(
                NeedKind.LosingGround,
                status.Name,
                null,
                $"Losing ground: {Figures.Rate(status.Clears.Arriving)} changes in, {Figures.Rate(status.Clears.Applied ?? 0)} out "
                    + "each second.",
                "The lag "
                    + $"grows{(status.Exhaustion.SpoolFull.In is { } full ? $", and the spool is full in {Figures.Duration(full)}" : "")}.",
                status.Cause ?? "See where the delay sits."
            );
        }

        // Where the backlog clears at its rates, nothing is lost at these; a load that ends before may be followed by anything.
        if (status is { Exhaustion.LogLost.In: { } lost, ExhaustedBy: null, Capture.LostPlace: false } && !(status.LoadEndsIn < lost))
        {
            yield return new Need(
                NeedKind.LogLoss,
                status.Name,
                status.Definition.Source,
                $"The log of {status.Definition.Source} is lost in {Figures.Duration(lost)}, and the backlog does not clear before.",
                "Then every table must be loaded again.",
                AheadOfLoss(status),
                lost
            );
        }
    }

    private static string AheadOfLoss(CrossingStatus status) =>
        status switch
        {
            { Capture: { Running: false } log } when log.SpoolBytes < log.SpoolBudget =>
                "Let the log be read again, or let the source keep more.",
            { State: CrossingState.Paused or CrossingState.Stopped } =>
                "Let it go on, make room for the spool, or let the source keep more.",
            _ => "Let it apply faster, make room for the spool, or let the source keep more.",
        };

    private static IEnumerable<Need> OfSource(CrossingStatus status, DateTimeOffset now)
    {
        if (status.Capture is not { } capture)
        {
            yield break;
        }

        if (capture.LostPlace)
        {
            yield return new Need(
                NeedKind.LogLoss,
                status.Name,
                capture.Connection,
                $"The log of {capture.Connection} no longer reaches back to where the spool ends.",
                "What the spool holds can be applied; what was committed after it cannot follow.",
                "Load the crossing again."
            );
        }
        else if (!capture.Running || (capture.SampledAt != default && now - capture.SampledAt > Silent))
        {
            yield return new Need(
                NeedKind.NoHeartbeat,
                status.Name,
                capture.Connection,
                capture.Running
                    ? $"Nothing has been heard of {capture.Connection} for {Figures.Duration(now - capture.SampledAt)}."
                    : $"The log of {capture.Connection} is not being read. {capture.Waiting}",
                $"The source keeps its log meanwhile: {Figures.Bytes(capture.LogBytes)}"
                    + (capture.LogLimit is { } limit ? $" of at most {Figures.Bytes(limit)}, after which it is lost." : "."),
                "It is tried again by itself."
            );
        }

        if (capture.SpoolBytes > capture.SpoolBudget * NearlyFull)
        {
            yield return new Need(
                NeedKind.SpoolFull,
                status.Name,
                capture.Connection,
                $"The spool of {capture.Connection} holds {Figures.Bytes(capture.SpoolBytes)} of at most "
                    + $"{Figures.Bytes(capture.SpoolBudget)}.",
                "When it is full the source's log is not read on.",
                "Let the slowest crossing go on, or give it up."
            );
        }
    }

    private static IEnumerable<Need> OfTables(CrossingStatus status)
    {
        foreach (var table in status.Tables)
        {
            if (table.Quarantined > 0)
            {
                yield return new Need(
                    NeedKind.Quarantine,
                    status.Name,
                    table.Source.ToString(),
                    $"{Figures.Of(table.Quarantined, "change")} of {table.Source} {(table.Quarantined == 1 ? "waits" : "wait")} in "
                        + "quarantine.",
                    "Those rows are not as at the source; all others go on.",
                    "Decide about them."
                );
            }
            else if (table.State == TableState.Held)
            {
                yield return new Need(
                    NeedKind.Held,
                    status.Name,
                    table.Source.ToString(),
                    $"{table.Source} is held. {table.Cause}",
                    "Its changes are not applied.",
                    "Load the table again."
                );
            }

            if (table.Verdict is { Differences: > 0 } verdict)
            {
                yield return new Need(
                    NeedKind.Differing,
                    status.Name,
                    table.Source.ToString(),
                    $"{Figures.Of(verdict.Differences, "row")} of {table.Source} {(verdict.Differences == 1 ? "differs" : "differ")} "
                        + "between both sides.",
                    "Whoever reads them on the target sees what the source does not say.",
                    "See which, and repair them."
                );
            }

            if (table.Tally.Unexpected.Total > 0)
            {
                yield return new Need(
                    NeedKind.Unexpected,
                    status.Name,
                    table.Source.ToString(),
                    $"{table.Target}: {Figures.Of(table.Tally.Unexpected.AlreadyThere, "row")} were there unexpectedly and "
                        + $"overwritten, {Figures.Count(table.Tally.Unexpected.Missing)} were missing.",
                    "Somebody else writes to the target, or it was not as the source to begin with.",
                    "Find out who, and load the table again."
                );
            }
        }
    }

    private static bool Runs(CrossingStatus status) =>
        status.State
            is CrossingState.CatchingUp
                or CrossingState.Following
                or CrossingState.Paused
                or CrossingState.Stopped
                or CrossingState.Faulted;
}
