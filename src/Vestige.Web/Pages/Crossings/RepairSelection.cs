using Vestige.Web.Reconciling;

namespace Vestige.Web.Pages.Crossings;

/// <summary>Which of the rows that a comparison lists are to be repaired.</summary>
public sealed class RepairSelection
{
    /// <summary>The target's table, as <c>schema.table</c>; empty for all tables of the comparison.</summary>
    public string? Table { get; set; }

    /// <summary>Places of rows in the list of that table.</summary>
    public int[] Row { get; set; } = [];

    /// <summary><c>all</c> for all listed rows of the table.</summary>
    public string? Which { get; set; }

    /// <summary>With <c>all</c>: only the rows of one segment; null for every one.</summary>
    public int? Segment { get; set; }

    /// <summary>Whether a row is meant.</summary>
    public bool Takes(DifferenceView row)
    {
        ArgumentNullException.ThrowIfNull(row);
        return string.IsNullOrEmpty(Table)
            || (
                row.Table.Into.ToString() == Table
                && (Which == "all" ? Segment is null || row.Row.Segment == Segment : Row.Contains(row.Place))
            );
    }
}
