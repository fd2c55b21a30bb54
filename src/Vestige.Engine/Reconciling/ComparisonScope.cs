using Vestige.Core.Schemas;
using Vestige.Core.Text;

namespace Vestige.Engine.Reconciling;

/// <summary>What of a crossing is compared.</summary>
/// <param name="Tables">The source's tables; empty for all.</param>
/// <param name="From">The first key of a range of one table, its whole numbers divided by commas; null from the first.</param>
/// <param name="Before">The key before which the range ends; null to the last.</param>
/// <param name="Sample">So many rows of each table drawn by chance; null for all.</param>
/// <param name="Changed">Only rows that changed since the table was last proved equal.</param>
public sealed record ComparisonScope(
    IReadOnlyList<TableName> Tables,
    string? From = null,
    string? Before = null,
    int? Sample = null,
    bool Changed = false
)
{
    /// <summary>Everything.</summary>
    public static ComparisonScope All { get; } = new([]);

    /// <summary>Whether a table without differences is then proved equal.</summary>
    public bool Proves => Sample is null && From is null && Before is null;

    /// <summary>In words.</summary>
    public string Words =>
        (Sample, Changed, From, Before) switch
        {
            ({ } rows, _, _, _) => $"a sample of {Figures.Of(rows, "row")} of {(Tables.Count == 1 ? $"{Tables[0]}" : "each table")}",
            (_, true, _, _) => $"rows{Of} changed since the last proof",
            (_, _, null, null) => $"all rows{Of}",
            _ => $"keys{Of} {(From is null ? "" : $"from {From} ")}{(Before is null ? "on" : $"to before {Before}")}",
        };

    private string Of =>
        Tables.Count switch
        {
            0 => "",
            1 => $" of {Tables[0]}",
            var many => $" of {Figures.Of(many, "table")}",
        };
}
