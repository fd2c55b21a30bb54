using Vestige.Core.Positions;

namespace Vestige.Engine.Reconciling;

/// <summary>One comparison of a crossing.</summary>
/// <param name="Id">Its id, unique.</param>
/// <param name="Crossing">The crossing.</param>
/// <param name="Scope">What was compared.</param>
/// <param name="By">Who asked for it.</param>
/// <param name="BeganAt">When it began.</param>
/// <param name="EndedAt">When it ended; null while it runs.</param>
/// <param name="State">How far it is.</param>
/// <param name="Note">Why it ended as it did, or what it is at; null when there is nothing to say.</param>
/// <param name="Tables">What was found so far.</param>
public sealed record Reconciliation(
    string Id,
    string Crossing,
    ComparisonScope Scope,
    string By,
    DateTimeOffset BeganAt,
    DateTimeOffset? EndedAt,
    ReconciliationState State,
    string? Note,
    IReadOnlyList<TableFinding> Tables
)
{
    /// <summary>The lowest position of what was compared; null while nothing was.</summary>
    public LogPosition? Position =>
        Tables.Where(table => table.Position is not null).Select(table => table.Position).DefaultIfEmpty(null).Min();

    /// <summary>How many rows differ.</summary>
    public long Differences => Tables.Sum(table => table.Missing + table.Extra + table.Differing);

    /// <summary>Whether it ended and every table of it is equal.</summary>
    public bool IsEqual => State == ReconciliationState.Done && Tables.Count > 0 && Tables.All(table => table.IsEqual);
}
