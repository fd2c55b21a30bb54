using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Core.Headlines;
using Vestige.Core.Text;
using Vestige.Engine.Alerting;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Vestige.Engine.Treating;

namespace Vestige.Web.Views;

/// <summary>What pages say in words.</summary>
public static class Sentences
{
    private const int FewestJudged = 5;

    /// <summary>The sentence of the Fleet page.</summary>
    public static string Fleet(IReadOnlyList<CrossingStatus> all, IReadOnlyList<Alert> standing)
    {
        ArgumentNullException.ThrowIfNull(all);
        ArgumentNullException.ThrowIfNull(standing);
        if (all.Count == 0)
        {
            return "There is no crossing yet.";
        }

        var tables = all.Sum(status => status.Tables.Count);
        var words = all.GroupBy(status => status.Headline.Word)
            .OrderBy(group => group.Key)
            .Select(group => $"{Figures.Count(group.Count())} {Is(group.Count(), group.Key)}");
        var needs = standing.Where(alert => !alert.Acknowledged).Select(alert => alert.Need.Crossing).Distinct().Count();
        var asks = needs == 0 ? "Nothing needs you." : $"{Figures.Count(needs)} {(needs == 1 ? "needs" : "need")} you.";
        return $"{Figures.Of(all.Count, "crossing")} {(all.Count == 1 ? "replicates" : "replicate")} {Figures.Of(tables, "table")}. "
            + $"{Join(words)}. {asks}";
    }

    /// <summary>The sentence of a crossing's page: its headline.</summary>
    public static string Crossing(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        var (headline, word) = (status.Headline, status.Headline.Word.Text());
        var more = headline.Reasons.Count(reason => reason.Word <= HeadlineWord.Differs) - 1;

        if (status is { State: CrossingState.Finished, Definition.Start.AsOf: { } asOf })
        {
            return "Finished. The rows are as of "
                + (asOf.Time is { } time ? $"{time.UtcDateTime:yyyy-MM-dd HH:mm:ss} UTC." : $"position {asOf.Position}.");
        }

        var capital = $"{char.ToUpperInvariant(word[0])}{word[1..]}";
        if (headline.Sentence.StartsWith(capital, StringComparison.Ordinal))
        {
            return headline.Sentence;
        }

        // What needs attention is said in full below it, and nothing good beside it.
        return capital
            + (headline.Since is { } since && headline.NeedsAttention ? $" since {since.UtcDateTime:HH:mm} UTC" : "")
            + (more > 0 ? $", and {Figures.Of(more, "more problem")}." : ".")
            + (headline.NeedsAttention ? "" : $" {headline.Sentence}");
    }

    /// <summary>The forecast column.</summary>
    public static string Forecast(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        return status.State switch
        {
            CrossingState.Draft => status.Capture is null ? "not started" : "log kept",
            CrossingState.Checking => "starting",
            CrossingState.Loading => status.LoadEndsIn is { } ends && ends > TimeSpan.Zero ? $"loaded in {Figures.Duration(ends)}"
                : status.LoadShare >= 1 ? "building keys"
                : "loading begins",
            CrossingState.Paused or CrossingState.Stopped => "position kept",
            CrossingState.Following or CrossingState.CatchingUp when IsWaiting(status) => "after the retry",
            CrossingState.Faulted => status.Fault?.PlaceLost == true ? "place lost" : "waits for you",
            _ when status.Headline.Word is HeadlineWord.Held or HeadlineWord.Quarantine => "waits for you",
            _ => Clears(status.Clears, KeepsPace(status)),
        };
    }

    /// <summary>
    /// How far behind the target is in a word, with what quarantine keeps: the age of the oldest change that it does not have. Where
    /// tables are held nobody knows how old theirs is.
    /// </summary>
    public static string Behind(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        var held = status.Tables.Count(table => table is { State: TableState.Held, Quarantined: 0 });
        return status switch
        {
            { State: CrossingState.Loading } => Percent(status.LoadShare),
            { Lag: null } => "–",
            { Lag: { } lag, Behind: { } kept } when kept > lag.Behind => Figures.Duration(kept),
            { Lag.Current: true } when held > 0 => $"{Figures.Count(held)} held",
            { Lag: { } lag } => (lag.AtLeast ? "≥ " : "") + Figures.Duration(lag.Behind),
        };
    }

    /// <summary>When the backlog is gone; one at rest clears nothing.</summary>
    public static string Backlog(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        return status.State switch
        {
            CrossingState.Paused or CrossingState.Stopped or CrossingState.Faulted => "at rest",
            CrossingState.Following or CrossingState.CatchingUp when IsWaiting(status) => "not known while it waits",
            CrossingState.Loading when status.Backlog > 0 => "not before the load ends",
            _ => Clears(status.Clears, KeepsPace(status)),
        };
    }

    public static string Clears(ClearingForecast forecast, bool current)
    {
        ArgumentNullException.ThrowIfNull(forecast);
        return current
            ? "steady"
            : forecast.Outcome switch
            {
                Clearing.Current => "steady",
                Clearing.Clears => $"clears in {Figures.Duration(forecast.In!.Value)}",
                Clearing.Never => "never at this rate",
                Clearing.AtRest => "at rest",
                _ => "not measured yet",
            };
    }

    /// <summary>When something is forecast to happen; what is said where it is not.</summary>
    public static string When(ForecastTime time, string never)
    {
        ArgumentNullException.ThrowIfNull(time);
        return time switch
        {
            { In: { } at } when at == TimeSpan.Zero => "now",
            { In: { } at } => $"in {Figures.Duration(at)}",
            { Soonest: { } soonest } => $"not before {Figures.Duration(soonest)}",
            _ => never,
        };
    }

    /// <summary>How good past forecasts were.</summary>
    public static string Quality(ForecastQuality? quality) =>
        quality is not { Count: >= FewestJudged }
            ? "too few to judge"
            : $"{Figures.Count(quality.Near)} of {Figures.Count(quality.Count)} came within half of the time said";

    /// <summary>The range of a time that is forecast; null where it has none, or as short a one as is shown.</summary>
    public static string? Range(ForecastTime time)
    {
        ArgumentNullException.ThrowIfNull(time);
        if (time.In is not { } at || at == TimeSpan.Zero)
        {
            return null;
        }

        var (soonest, latest) = (Figures.Duration(time.Soonest ?? at), time.Latest is { } late ? Figures.Duration(late) : "never");
        return soonest == latest ? null : $"{soonest} to {latest}";
    }

    /// <summary>Current, or following so closely that a backlog is only what is in hand.</summary>
    public static bool KeepsPace(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        return status.Lag is { } lag && (lag.Current || (status.State == CrossingState.Following && lag.Behind < TimeSpan.FromSeconds(2)));
    }

    /// <summary>What it can apply; while it keeps pace, at least what it applies.</summary>
    public static string Capacity(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        return status.Clears.Applied is not { } seen ? "not measured yet"
            : KeepsPace(status) && status.Applied > seen ? $"at least {Figures.Rate(status.Applied)}/s"
            : $"{Figures.Rate(seen)}/s";
    }

    public static string Percent(double? share) => share is null ? "0 %" : $"{Math.Floor(share.Value * 100):0} %";

    /// <summary>Whether the source or the target cannot be reached: no rate of before says anything of what comes.</summary>
    private static bool IsWaiting(CrossingStatus status) =>
        status.Headline.Reasons.Any(reason => reason.Word is HeadlineWord.Waiting or HeadlineWord.PlaceLost);

    private static string Is(int count, HeadlineWord word) =>
        word switch
        {
            HeadlineWord.Draft => count == 1 ? "is a draft" : "are drafts",
            HeadlineWord.PlaceLost => count == 1 ? "lost its place" : "lost their places",
            HeadlineWord.SourceWritesFail => count == 1 ? "makes writes fail at its source" : "make writes fail at their sources",
            HeadlineWord.LogAtRisk => count == 1 ? "risks its log" : "risk their logs",
            HeadlineWord.StorageFull => count == 1 ? "has no storage left" : "have no storage left",
            HeadlineWord.Held => count == 1 ? "holds tables" : "hold tables",
            HeadlineWord.Quarantine => count == 1 ? "has changes in quarantine" : "have changes in quarantine",
            HeadlineWord.Differs => count == 1 ? "differs" : "differ",
            _ => $"{(count == 1 ? "is" : "are")} {word.Text()}",
        };

    private static string Join(IEnumerable<string> parts) => string.Join(", ", parts);

    /// <summary>
    /// Why the rows of a table need not be as many on both sides, or have another name; empty where they are and it has not.
    /// </summary>
    public static string Way(CrossingDefinition definition, TableStatus table)
    {
        ArgumentNullException.ThrowIfNull(definition);
        ArgumentNullException.ThrowIfNull(table);
        var steps = (definition.Treatment ?? []).Where(step => TablePattern.Matches(step.Tables, table.Source.ToString())).ToList();
        var mode = definition.AppliedAs(table.Source);
        var parts = new List<string>();
        var children = CrossingTreatment.ChildTargetsOf(definition, table.Source);
        var into = table.Into.Except(children).ToList();
        if (children.Count > 0)
        {
            parts.Add($"child rows in {Join(children.Select(child => child.ToString()))}");
        }

        if (into.Count > 1 || table.Target.Name != table.Source.Name)
        {
            parts.Add(
                $"→ {Join(into.Select(one => one.ToString()))}{(steps.Exists(step => step.Combine is not null) ? ", with others" : "")}"
            );
        }

        if (steps.Exists(step => step.Keep is not null))
        {
            parts.Add("some rows are left out");
        }

        if (mode != ApplyMode.Upsert)
        {
            parts.Add(
                mode switch
                {
                    ApplyMode.InsertOnly => "inserts only",
                    ApplyMode.KeepDeleted => "deleted rows stay",
                    _ => "every version stays",
                }
            );
        }

        return Join(parts);
    }

    /// <summary>What a change of a started crossing needs.</summary>
    public static string Change(DefinitionChange change)
    {
        ArgumentNullException.ThrowIfNull(change);
        if (!change.Ready)
        {
            return "The change cannot be taken as things stand.";
        }

        if (!change.Restarts)
        {
            return "The change needs no action: the same tables are replicated in the same way.";
        }

        var parts = new List<string>();
        Add(change.Added.Count, "comes and is loaded", "come and are loaded");
        Add(change.Reloaded.Count, "is loaded again", "are loaded again");
        Add(change.Removed.Count, "leaves; its rows on the target stay", "leave; their rows on the target stay");
        var load =
            change.Added.Count + change.Reloaded.Count == 0 ? ""
            : change.OthersGoOn ? " The other tables keep following during the load."
            : " While tables are loaded, the others wait.";
        return $"The crossing rests for a moment. {string.Join(", ", parts)}.{load}";

        void Add(int count, string one, string many)
        {
            if (count > 0)
            {
                parts.Add($"{Figures.Of(count, "table")} {(count == 1 ? one : many)}");
            }
        }
    }
}
