using Vestige.Core.Changes;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Reconciling;

/// <summary>A row that differs, as of the position of its segment.</summary>
/// <param name="Into">The target's table.</param>
/// <param name="Kind">How.</param>
/// <param name="Key">Its key columns only, in the target's table; the whole row where that has no key.</param>
/// <param name="Expected">What the target should have; none for an extra row.</param>
/// <param name="Found">What the target has; none for a missing row.</param>
/// <param name="Columns">The names of the columns that differ; empty unless both sides have the row.</param>
/// <param name="Times">How many times more it stands on one side, where there is no key; 1 otherwise.</param>
/// <param name="Cause">The likely cause, where the evidence is there.</param>
/// <param name="Segment">The place of its segment among those told of the table; null where none are.</param>
public sealed record RowDifference(
    TableName Into,
    DifferenceKind Kind,
    Row Key,
    Row Expected,
    Row Found,
    IReadOnlyList<string> Columns,
    int Times = 1,
    string? Cause = null,
    int? Segment = null
)
{
    /// <summary>Its key as the source writes it, where that is not as the target does; none otherwise.</summary>
    public Row SourceKey { get; init; }
}
