using Vestige.Core.Schemas;
using Vestige.Core.Text;

namespace Vestige.Engine.Backfilling;

/// <summary>Rows of one table that a person wants written as the source has them.</summary>
/// <param name="Crossing">The crossing.</param>
/// <param name="Table">The source's table.</param>
/// <param name="From">The first key, its whole numbers divided by commas; null from the first.</param>
/// <param name="Before">The key before which it ends; null to the last.</param>
/// <param name="Columns">The target's columns that are written; empty for all.</param>
/// <param name="By">Who asked for it.</param>
/// <param name="At">When.</param>
public sealed record Backfill(
    string Crossing,
    TableName Table,
    string? From,
    string? Before,
    IReadOnlyList<string> Columns,
    string By,
    DateTimeOffset At
)
{
    /// <summary>In words.</summary>
    public string Words =>
        (Columns.Count == 0 ? "" : $"{(Columns.Count == 1 ? "column" : "columns")} {string.Join(", ", Columns)} of ")
        + Table
        + (From is null && Before is null ? "" : ", keys")
        + (From is null ? "" : $" from {From}")
        + (Before is null ? "" : $" before {Before}");

    /// <summary>Whether rows that only the target has are deleted; else they stay.</summary>
    public bool DeletesExtra { get; init; }

    /// <summary>How far it is.</summary>
    public BackfillProgress Progress { get; init; } = new(0, 0, 0, 0, 0);

    /// <summary>The same as an event says how it went.</summary>
    internal string Told =>
        $"{Words}: {Figures.Of(Progress.Rows, "row")} looked at, {Figures.Count(Progress.Written)} written"
        + (Progress.LeftAlone == 0 ? "" : $", {Figures.Count(Progress.LeftAlone)} left alone because of quarantine");
}
