using Vestige.Core.Alerts;
using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Core.Headlines;
using Vestige.Core.Text;
using Vestige.Engine.Measuring;

namespace Vestige.Engine.Alerting;

/// <summary>Reads from a crossing's status what a person may have to act on.</summary>
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
            ? "Vestige keeps spooling the source's changes; the target gets older."
            : "Vestige reads nothing from the source; the source keeps its log and the target gets older.";
        if (status.Fault is { } fault)
        {
            yield return new Need(
                NeedKind.Faulted,
                status.Name,
                null,
                fault.What,
                fault.PlaceLost ? "Changes committed since then are lost until the tables are loaded again." : kept,
                fault.Remedy
            );
        }
        else if (status.Waiting is { } waiting && status.Capture is not { Running: false })
        {
            yield return new Need(NeedKind.Waiting, status.Name, null, waiting.What, kept, waiting.Remedy ?? "Retrying automatically.");
        }

        if (status.Lag is { Current: false } lag && Runs(status) && !status.RestsAsPlanned(now))
        {
            yield return new Need(
                NeedKind.Lag,
                status.Name,
                null,
                $"{(lag.AtLeast ? "At least " : "")}{Figures.Duration(lag.Behind)} behind, {Figures.Of(status.Backlog, "change")} waiting.",
                "Readers of the target see old data.",
                status.Cause ?? "Open lag by stage.",
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
                status.Cause ?? "Open lag by stage."
            );
        }

        // Where the backlog clears at its rates, nothing is lost at these; a load that ends before may be followed by anything.
        if (status is { Exhaustion.LogLost.In: { } lost, ExhaustedBy: null, Capture.LostPlace: false } && !(status.LoadEndsIn < lost))
        {
            yield return new Need(
                NeedKind.LogLoss,
                status.Name,
                status.Definition.Source,
                $"{status.Definition.Source} drops log that is still needed in {Figures.Duration(lost)}, before the backlog clears.",
                "After that, every table must be loaded again.",
                AheadOfLoss(status),
                lost
            );
        }
    }

    private static string AheadOfLoss(CrossingStatus status) =>
        status switch
        {
            { Capture: { Running: false } log } when log.SpoolBytes < log.SpoolBudget =>
                "Make the log readable again, or let the source keep more log.",
            { State: CrossingState.Paused or CrossingState.Stopped } =>
                "Resume it, give the spool more room, or let the source keep more log.",
            _ => "Make the target faster, give the spool more room, or let the source keep more log.",
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
                "The remaining spooled changes can still be applied; later changes are lost.",
                "Reload the tables or remove the crossing."
            );
        }
        else if (!capture.Running || (capture.SampledAt != default && now - capture.SampledAt > Silent))
        {
            yield return new Need(
                NeedKind.NoHeartbeat,
                status.Name,
                capture.Connection,
                capture.Running
                    ? $"{capture.Connection} has not answered for {Figures.Duration(now - capture.SampledAt)}."
                    : $"The log of {capture.Connection} is not being read. {capture.Waiting}",
                $"The source keeps its log: {Figures.Bytes(capture.LogBytes)}"
                    + (capture.LogLimit is { } limit ? $" of at most {Figures.Bytes(limit)}, after which it is lost." : "."),
                "Retrying automatically."
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
                "When it is full, Vestige stops reading the source's log.",
                "Let the slowest crossing apply its backlog, give the spool more room, or remove a crossing."
            );
        }
    }

    /// <summary>What the headline says of tables, one for each kind however many tables there are.</summary>
    private static IEnumerable<Need> OfTables(CrossingStatus status) =>
        status.Headline.Reasons.Select(reason => OfTables(status, reason)).Append(Unexpected(status)).OfType<Need>();

    private static Need? OfTables(CrossingStatus status, Reason reason) =>
        reason.Word switch
        {
            HeadlineWord.SourceWritesFail => About(
                NeedKind.SourceWritesFail,
                status,
                reason,
                "Applications of the source get errors.",
                CauseOf(status, reason)
            ),
            HeadlineWord.Held => About(
                NeedKind.Held,
                status,
                reason,
                CauseOf(status, reason),
                reason.Tables.Count == 1 ? null : "The others are on the page of tables, each with its cause."
            ),
            HeadlineWord.Quarantine => About(
                NeedKind.Quarantine,
                status,
                reason,
                "All other rows are applied.",
                "Retry, edit or drop them."
            ),
            HeadlineWord.Differs => About(
                NeedKind.Differing,
                status,
                reason,
                "Readers of the target see values that the source does not have.",
                "Compare the rows and repair them."
            ),
            _ => null,
        };

    private static Need About(NeedKind kind, CrossingStatus status, Reason reason, string costs, string? remedy) =>
        new(kind, status.Name, null, reason.Sentence, costs, remedy, Tables: reason.Tables);

    /// <summary>Why the first of the tables is held; the others are on the page of tables.</summary>
    private static string CauseOf(CrossingStatus status, Reason reason) =>
        status.Tables.FirstOrDefault(table => table.Source.ToString() == reason.Tables[0])?.Cause is not { } cause ? ""
        : reason.Tables.Count == 1 ? cause
        : $"{reason.Tables[0]}: {cause}";

    private static Need? Unexpected(CrossingStatus status)
    {
        var tables = status.Tables.Where(table => table.Tally.Unexpected.Total > 0).ToList();
        return tables.Count == 0
            ? null
            : new Need(
                NeedKind.Unexpected,
                status.Name,
                null,
                $"{Figures.Listed([.. tables.Select(table => table.Target.ToString())], 3)}: "
                    + $"{Figures.Of(tables.Sum(table => table.Tally.Unexpected.AlreadyThere), "row")} existed unexpectedly and were "
                    + $"overwritten, {Figures.Count(tables.Sum(table => table.Tally.Unexpected.Missing))} were missing.",
                "Something else writes to the target, or the target did not equal the source at the start.",
                "Find what writes to the target, then load these tables again.",
                Tables: [.. tables.Select(table => table.Source.ToString())]
            );
    }

    private static bool Runs(CrossingStatus status) =>
        status.State
            is CrossingState.CatchingUp
                or CrossingState.Following
                or CrossingState.Paused
                or CrossingState.Stopped
                or CrossingState.Faulted;
}
