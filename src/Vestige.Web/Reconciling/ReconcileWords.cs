using Vestige.Core.Reconciling;
using Vestige.Core.Text;
using Vestige.Engine.Measuring;
using Vestige.Engine.Reconciling;

namespace Vestige.Web.Reconciling;

/// <summary>What comparing found, in words.</summary>
public static class ReconcileWords
{
    /// <summary>The sentence of a crossing's page.</summary>
    public static string Of(CrossingStatus status, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(status);
        if (status.Differences > 0)
        {
            var tables = status.Tables.Count(table => table.Verdict is { Differences: > 0 });
            return $"{Figures.Of(status.Differences, "row")} {(status.Differences == 1 ? "differs" : "differ")} in "
                + $"{Figures.Of(tables, "table")}.";
        }

        if (status.Proved is { } proved)
        {
            return $"Proved equal, every table, within the last {Figures.Duration(now - proved.At)}.";
        }

        var some = status.Tables.Count(table => table.Verdict?.Proved is not null);
        return some == 0 ? "Not compared yet." : $"{Figures.Of(some, "table")} of {Figures.Count(status.Tables.Count)} proved equal.";
    }

    /// <summary>The sentence of one comparison.</summary>
    public static string Of(Reconciliation found)
    {
        ArgumentNullException.ThrowIfNull(found);
        var (missing, extra, differing) = (
            found.Tables.Sum(table => table.Missing),
            found.Tables.Sum(table => table.Extra),
            found.Tables.Sum(table => table.Differing)
        );
        var equal = found.Tables.Count(table => table.IsEqual);
        var unproved = found.Tables.Count(table => table.Reason is not null);
        var result =
            found.Differences == 0
                ? found.Tables.Count == 0
                    ? "Nothing was compared."
                    : found.Scope.Proves
                        ? $"{Figures.Of(equal, "table")} proved equal."
                        : $"No row differs in {Figures.Of(equal, "table")}."
                : $"{Figures.Of(found.Differences, "row")} {(found.Differences == 1 ? "differs" : "differ")}: "
                    + $"{Figures.Count(missing)} missing, {Figures.Count(extra)} extra, {Figures.Count(differing)} with other values.";
        var rest = unproved == 0 ? "" : $" {Figures.Of(unproved, "table")} {(unproved == 1 ? "was" : "were")} not compared, or not whole.";
        return found.State switch
        {
            ReconciliationState.Running => $"Comparing. {result}{rest}",
            ReconciliationState.Failed => $"Failed: {found.Note} {result}{rest}",
            ReconciliationState.Cancelled => $"Ended early, {found.Note}. {result}{rest}",
            _ => result + rest,
        };
    }

    /// <summary>What a table's finding means.</summary>
    public static string Of(TableFinding table, ComparisonScope scope)
    {
        ArgumentNullException.ThrowIfNull(table);
        ArgumentNullException.ThrowIfNull(scope);
        if (table.Position is null)
        {
            return $"not compared: {table.Reason}";
        }

        var differences = table.Missing + table.Extra + table.Differing;
        var words =
            differences > 0
                ? $"{Figures.Of(differences, "row")} "
                    + $"{(differences == 1 ? "differs" : "differ")}{(table.NotListed ? ", and more that were not looked at" : "")}"
            : table.Reason is not null ? "no row differs"
            : scope.Proves ? "proved equal"
            : "no row differs";
        return table.Reason is null ? words : $"{words}; {table.Reason}";
    }

    /// <summary>What a sample of that size without a bad row says of a table.</summary>
    public static string OfSample(long rows, long sample)
    {
        if (sample >= rows)
        {
            return "Every row was drawn.";
        }

        var most = Sampling.MostBad(rows, sample, 0.95);
        return most == 0
            ? "With 95 % certainty no row of the source is missing or other there; rows that only the target has are not seen by a sample."
            : $"With 95 % certainty at most {Figures.Count(most)} of {Figures.Count(rows)} rows of the source are missing or other "
                + "there; rows that only the target has are not seen by a sample.";
    }
}
