using Vestige.Core.Crossings;
using Vestige.Core.Lag;
using Vestige.Core.Text;

namespace Vestige.Core.Headlines;

/// <summary>
/// Derives the one headline of a crossing. Invariants:
/// <list type="number">
/// <item>There is always one, and it is the worst of all that holds, by the order of <see cref="HeadlineWord"/>.</item>
/// <item>Each word holds at most once, and exactly one of the words from <see cref="HeadlineWord.Paused"/> on holds, but for a crossing
/// that is faulted or waits: what it would do otherwise is not said of it.</item>
/// <item>Nothing says "following" or "catching up" of a crossing to which nothing is applied.</item>
/// </list>
/// </summary>
public static class HeadlineRule
{
    /// <summary>This much behind is what is in hand, and no delay.</summary>
    public static readonly TimeSpan InHand = TimeSpan.FromSeconds(2);

    /// <summary>The headline of these facts.</summary>
    public static Headline Of(CrossingFacts facts)
    {
        ArgumentNullException.ThrowIfNull(facts);
        return new Headline([.. Troubles(facts).Concat(Activity(facts)).OrderBy(reason => reason.Word)]);
    }

    private static IEnumerable<Reason> Troubles(CrossingFacts facts)
    {
        if (facts.Fault is { } fault)
        {
            yield return Said(HeadlineWord.Faulted, fault, HeadlineAction.Resume);
        }

        if (facts.PlaceLost is { } lost)
        {
            yield return Said(HeadlineWord.PlaceLost, lost, HeadlineAction.Reload);
        }

        if (facts.LogLostIn is { } lostIn)
        {
            yield return LogAtRisk(facts, lostIn);
        }

        if (facts.Waiting is { } waiting)
        {
            yield return Waiting(facts, waiting);
        }

        if (facts.StorageFull is { } full)
        {
            yield return Said(HeadlineWord.StorageFull, full, HeadlineAction.OpenSource);
        }

        foreach (var reason in OfTables(facts))
        {
            yield return reason;
        }
    }

    private static IEnumerable<Reason> OfTables(CrossingFacts facts)
    {
        if (facts.SourceWritesFail is { } failing)
        {
            yield return Of(
                HeadlineWord.SourceWritesFail,
                failing,
                $"Updates and deletes of {Listed(failing)} fail at the source.",
                HeadlineAction.OpenHeld
            );
        }

        if (facts.Held is { } held)
        {
            yield return Of(
                HeadlineWord.Held,
                held,
                $"{Figures.Count(held.Names.Count)} of {Figures.Of(facts.Tables, "table")} {(held.Names.Count == 1 ? "is" : "are")} "
                    + $"held: {Listed(held)}. {(held.Names.Count == 1 ? "Its" : "Their")} changes are not applied.",
                HeadlineAction.OpenHeld
            );
        }

        if (facts.Quarantined is { } waiting)
        {
            yield return Of(
                HeadlineWord.Quarantine,
                waiting,
                $"{Figures.Of(waiting.Count, "change")} of {Listed(waiting)} {(waiting.Count == 1 ? "is" : "are")} in "
                    + "quarantine. Those rows differ from the source.",
                HeadlineAction.OpenQuarantine
            );
        }

        if (facts.Differing is { } differing)
        {
            yield return Of(
                HeadlineWord.Differs,
                differing,
                $"{Figures.Of(differing.Count, "row")} of {Listed(differing)} {(differing.Count == 1 ? "differs" : "differ")} between "
                    + "source and target.",
                HeadlineAction.OpenDifferences
            );
        }
    }

    /// <summary>What it does, where nothing keeps it from doing it.</summary>
    private static IEnumerable<Reason> Activity(CrossingFacts facts)
    {
        var isKept = facts.Fault is not null || facts.Waiting is not null || facts.State == CrossingState.Faulted;
        return facts.State switch
        {
            CrossingState.Draft => [Own(facts, HeadlineWord.Draft, Draft(facts), HeadlineAction.Start)],
            CrossingState.Finished => [Own(facts, HeadlineWord.Finished, "Every row was copied once.")],
            CrossingState.Paused => [Own(facts, HeadlineWord.Paused, $"Paused by {facts.By}. {Behind(facts)}", HeadlineAction.Resume)],
            CrossingState.Stopped => [Own(facts, HeadlineWord.Stopped, Stopped(facts), HeadlineAction.Resume)],
            _ when isKept || facts.PlaceLost is not null => Faulted(facts),
            CrossingState.Checking => [Own(facts, HeadlineWord.Checking, "Checking what must hold before it starts.")],
            CrossingState.Loading => [Own(facts, HeadlineWord.Loading, Loading(facts))],
            _ when facts.LoadingBeside > 0 =>
            [
                Own(facts, HeadlineWord.Loading, LoadingBeside(facts)),
                .. new[] { Applying(facts) }.Where(reason => reason.Word != HeadlineWord.Following),
            ],
            _ => [Applying(facts)],
        };
    }

    /// <summary>A state without a reason of its own, as after a restart, is still said.</summary>
    private static IEnumerable<Reason> Faulted(CrossingFacts facts) =>
        facts is { Fault: null, Waiting: null, PlaceLost: null }
            ? [Own(facts, HeadlineWord.Faulted, "It cannot resume until a person acts.", HeadlineAction.Resume)]
            : [];

    private static Reason Applying(CrossingFacts facts)
    {
        var isLate = facts.Lag is { Current: false } lag && lag.Behind >= InHand;
        return facts switch
        {
            { LimitedBy: { } rule } => Own(facts, HeadlineWord.Limited, $"{rule} {Behind(facts)}"),
            { State: CrossingState.CatchingUp, LosesGround: false } => Own(facts, HeadlineWord.CatchingUp, Behind(facts)),
            { State: CrossingState.CatchingUp } => Own(
                facts,
                HeadlineWord.Behind,
                $"{Behind(facts)} More arrives than is applied.",
                HeadlineAction.OpenDelay
            ),
            _ when isLate => Own(facts, HeadlineWord.Behind, Behind(facts), HeadlineAction.OpenDelay),
            _ => Own(facts, HeadlineWord.Following, Behind(facts)),
        };
    }

    private static Reason LogAtRisk(CrossingFacts facts, TimeSpan lostIn) =>
        new(
            HeadlineWord.LogAtRisk,
            null,
            [],
            $"The source drops log that is still needed {(lostIn <= TimeSpan.Zero ? "now" : $"in {Figures.Duration(lostIn)}")}. Then every "
                + "table must be loaded again.",
            facts.State is CrossingState.Paused or CrossingState.Stopped ? HeadlineAction.Resume : HeadlineAction.OpenDelay
        );

    private static Reason Waiting(CrossingFacts facts, Trouble waiting)
    {
        var next = facts.NextAttempt is { } at && at > facts.Now ? $" Retrying in {Figures.Duration(at - facts.Now)}." : " Retrying.";
        return Said(HeadlineWord.Waiting, waiting, HeadlineAction.RetryNow) is var said
            ? said with
            {
                Sentence = said.Sentence + next,
            }
            : said;
    }

    /// <summary>How late the target is: what is held or in quarantine is behind, too, so it is never current then.</summary>
    private static string Behind(CrossingFacts facts)
    {
        var kept = facts.Held is not null || facts.Quarantined is not null;
        return facts.Lag switch
        {
            null => "",
            { Current: true } when kept => "Everything else is applied.",
            { Current: true } => "Nothing waits.",
            { } lag => $"{(lag.AtLeast ? "At least " : "")}{Figures.Duration(lag.Behind)} behind"
                + (facts.Backlog > 0 ? $", {Figures.Of(facts.Backlog, "change")} waiting." : "."),
        };
    }

    private static string Draft(CrossingFacts facts) =>
        facts.KeepsLog ? "The source's log is kept for it. Nothing has been written." : "Nothing has been read or written.";

    private static string Stopped(CrossingFacts facts) =>
        facts.NextRun is { } next
            ? $"The next run starts at {next.UtcDateTime:yyyy-MM-dd HH:mm} UTC. {Behind(facts)}"
            : $"Stopped by {facts.By}. {Behind(facts)}";

    private static string Loading(CrossingFacts facts) =>
        facts.Loaded is not { } loaded ? "Preparing the target's tables."
        : loaded >= 1 ? "All rows are loaded; building keys and indexes."
        : $"{Math.Floor(loaded * 100):0} % of the rows are loaded"
                + (facts.LoadEndsIn is { } left && left > TimeSpan.Zero ? $", {Figures.Duration(left)} left." : ".");

    private static string LoadingBeside(CrossingFacts facts)
    {
        var others = facts.Tables - facts.LoadingBeside;
        var follow = others == 0 ? "" : $" The other {Figures.Of(others, "table")} {(others == 1 ? "follows" : "follow")}. {Behind(facts)}";
        var slowed =
            facts.LoadSlowed >= TimeSpan.FromSeconds(1) ? $" The load has waited {Figures.Duration(facts.LoadSlowed)} for them." : "";
        return $"{Figures.Of(facts.LoadingBeside, "table")}: {Loading(facts)}{follow}{slowed}";
    }

    private static Reason Said(HeadlineWord word, Trouble trouble, HeadlineAction action) =>
        new(word, trouble.Since, [], trouble.Remedy is { } remedy ? $"{trouble.What} {remedy}" : trouble.What, action);

    private static Reason Of(HeadlineWord word, TroubledTables tables, string sentence, HeadlineAction action) =>
        new(word, tables.Since, tables.Names, sentence, action);

    private static Reason Own(CrossingFacts facts, HeadlineWord word, string sentence, HeadlineAction? action = null) =>
        new(word, facts.Since, [], sentence.TrimEnd(), action);

    private static string Listed(TroubledTables tables) => Figures.Listed([.. tables.Names], 3);
}
