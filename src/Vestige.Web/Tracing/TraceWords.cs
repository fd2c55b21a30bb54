using System.Globalization;
using Vestige.Core.Crossings;
using Vestige.Core.Text;
using Vestige.Engine.Measuring;
using Vestige.Engine.Tracing;
using Vestige.Web.Quarantining;

namespace Vestige.Web.Tracing;

/// <summary>Says of a row, or of one change, where it is and why it is not further.</summary>
public static class TraceWords
{
    /// <summary>Where a change is in a crossing.</summary>
    public static string Of(TracedStep step) =>
        step?.Stage switch
        {
            TraceStage.Applied => (step.AppliedAt is { } at ? $"applied by {Time(at)}" : "applied; when is not remembered any more")
                + (step.Decided is { } edited ? $", {edited.Said}" : ""),
            TraceStage.Dropped => $"{step.Decided!.Said}; it never reaches the target",
            TraceStage.InLoad => "in the rows that were loaded",
            TraceStage.BeforeLoad => "its table is still to be loaded",
            TraceStage.Waiting => "waits to be applied",
            TraceStage.Quarantined => $"in quarantine: {WaitingGroup.CauseOf(step.Quarantined!)}",
            TraceStage.Held => "its table is held",
            TraceStage.LeftOut => "left out by the definition",
            _ => "",
        };

    /// <summary>Why a row is, or is not, on a target as it is at the source.</summary>
    /// <param name="crossing">The crossing that carries it.</param>
    /// <param name="trace">Its changes.</param>
    /// <param name="sides">The row on both sides now; null when a side cannot be read.</param>
    public static string Answer(CrossingStatus crossing, Trace trace, RowSides? sides)
    {
        ArgumentNullException.ThrowIfNull(crossing);
        ArgumentNullException.ThrowIfNull(trace);
        var table = crossing.Tables.FirstOrDefault(one => one.Source == trace.Table);
        if (crossing.State == CrossingState.Draft)
        {
            return $"{crossing.Name} is a draft: nothing is replicated yet.";
        }

        if (table is null || !crossing.Definition.Tables.Takes(table.Source))
        {
            return $"{crossing.Name} does not carry {trace.Table}.";
        }

        var last = trace
            .Changes.Where(change => change.Crossings.Any(step => step.Crossing == crossing.Name))
            .Select(change => (Change: change, Step: change.Crossings.First(step => step.Crossing == crossing.Name)))
            .LastOrDefault();
        return last.Change is null ? Untouched(crossing, table, trace, sides) : Latest(crossing, last.Change, last.Step, sides);
    }

    private static string Untouched(CrossingStatus crossing, TableStatus table, Trace trace, RowSides? sides)
    {
        var held = trace.Since is null ? "The source is not read now." : "The spool holds no change of it.";
        if (table.State is TableState.Loading || (table.State is TableState.Waiting && crossing.LoadShare is not null))
        {
            return $"{held} {table.Source} is being loaded by "
                + $"{crossing.Name}{(crossing.LoadEndsIn is { } ends ? $"; the load ends in {Figures.Duration(ends)}" : "")}.";
        }

        return sides switch
        {
            null => held,
            { LeftOut: true } => $"{held} The treatment of {crossing.Name} leaves the row out.",
            { HasHere: true, HasThere: false } when NotCaptured(crossing) is { } behind => $"{held} {behind}",
            { HasHere: true, HasThere: false } =>
                $"{held} The row is at the source and not on the target, and no change of it waits: something else removed it there, "
                    + "else, or its change is older than what the spool keeps. Load the table again, or compare it.",
            { HasHere: false, HasThere: true } =>
                $"{held} The row is only on the target: something else wrote it there, or its deletion is older than what the spool keeps.",
            { HasHere: false } => $"{held} The row is on neither side.",
            _ when sides.Values.Any(value => value.Differs) =>
                $"{held} The row is on both sides and differs: something else changed it on the target, or its change is older than "
                    + "what the spool keeps.",
            _ => $"{held} The row is the same on both sides.",
        };
    }

    private static string Latest(CrossingStatus crossing, TracedChange change, TracedStep step, RowSides? sides)
    {
        var what = $"The last change, committed {Time(change.CommittedAt)},";
        return step.Stage switch
        {
            TraceStage.Applied when sides is not null && Differ(sides) && NotCaptured(crossing) is { } behind =>
                $"{what} is applied. {behind}",
            TraceStage.Applied when sides is not null && Differ(sides) && step.Decided is not null =>
                $"{what} is {Of(step)}: the target's row differs from the source's by that.",
            TraceStage.Applied when sides is not null && Differ(sides) =>
                $"{what} is {Of(step)}, and yet the target's row is another: somebody else changed it there, or a change is on its "
                    + "way at this moment.",
            TraceStage.Applied => $"{what} is {Of(step)}{Took(change, step)}.",
            TraceStage.InLoad => $"{what} is {Of(step)}.",
            TraceStage.Waiting => $"{what} waits to be applied. {WhyWaiting(crossing)}",
            TraceStage.Quarantined => $"{what} is {Of(step)}.",
            TraceStage.Dropped => $"{what} was {Of(step)}.",
            TraceStage.Held =>
                $"{what} is not applied: {crossing.Tables.FirstOrDefault(table => table.Source == change.Schema.Name)?.Cause}",
            TraceStage.LeftOut => $"{what} is left out by the definition of {crossing.Name}.",
            _ => $"{what} comes with the load of its "
                + $"table{(crossing.LoadEndsIn is { } ends ? $", which ends in {Figures.Duration(ends)}" : "")}.",
        };
    }

    private static string WhyWaiting(CrossingStatus crossing) =>
        crossing.State switch
        {
            CrossingState.Paused => $"{crossing.Name} is paused by {crossing.By}.",
            CrossingState.Stopped => $"{crossing.Name} is stopped by {crossing.By}.",
            CrossingState.Faulted => $"{crossing.Name} is faulted: {crossing.Fault?.What}",
            _ when crossing.Waiting is { } waiting => $"{crossing.Name} waits: {waiting.What}",
            _ => $"{Figures.Of(crossing.Backlog, "change")} of {crossing.Name} "
                + (crossing.Backlog == 1 ? "waits" : "wait")
                + (crossing.Clears.In is { } clears ? $"; that clears in {Figures.Duration(clears)}." : "."),
        };

    /// <summary>What the source committed lately may not have been read; null when all of it has.</summary>
    private static string? NotCaptured(CrossingStatus crossing) =>
        crossing.Capture switch
        {
            { Running: false } capture => $"The log of {crossing.Definition.Source} is not being read, so what was "
                + $"committed{(capture.ProvenAt is { } proven ? $" since {Time(proven)}" : "")} is not captured: {capture.Waiting}",
            { PassedHead: false } => $"Not all that {crossing.Definition.Source} has committed is captured yet.",
            _ => null,
        };

    private static bool Differ(RowSides sides) =>
        sides is { LeftOut: false, Keyless: false } && (sides.HasHere != sides.HasThere || sides.Values.Any(value => value.Differs));

    private static string Took(TracedChange change, TracedStep step) =>
        step.AppliedAt is { } at && at > change.CommittedAt ? $", {Figures.Duration(at - change.CommittedAt)} after its commit" : "";

    private static string Time(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd HH:mm:ss.fff 'UTC'", CultureInfo.InvariantCulture);
}
