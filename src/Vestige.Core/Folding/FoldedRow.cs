using Vestige.Core.Changes;

namespace Vestige.Core.Folding;

/// <summary>The net effect of a batch on one key.</summary>
/// <param name="Kind">Insert, update or delete.</param>
/// <param name="Before">Holds the key for updates and deletes; none for inserts.</param>
/// <param name="After">The final row; none for deletes. Absent values keep what the target has.</param>
public readonly record struct FoldedRow(ChangeKind Kind, Row Before, Row After)
{
    /// <summary>Whether of the row before an update only the key is known; its other values say nothing then.</summary>
    public bool KnowsKeyOnly { get; init; }
}
