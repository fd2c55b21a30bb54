using Vestige.Core.Schemas;

namespace Vestige.Engine.Rewinding;

/// <summary>What another definition would have made of the changes of one table.</summary>
/// <param name="Table">The source's table.</param>
/// <param name="Counts">How many changes, by effect.</param>
/// <param name="Problem">Why it could not be tried, as a sentence; null where it could.</param>
/// <param name="Examples">A few of those that would have been treated otherwise, the first of each effect.</param>
public sealed record TriedTable(
    TableName Table,
    IReadOnlyDictionary<TrialEffect, long> Counts,
    string? Problem,
    IReadOnlyList<TriedRow> Examples
)
{
    /// <summary>How many changes it would have treated otherwise.</summary>
    public long Otherwise => Counts.Where(pair => pair.Key != TrialEffect.Same).Sum(pair => pair.Value);
}
