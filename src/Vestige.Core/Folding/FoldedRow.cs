using Vestige.Core.Changes;

namespace Vestige.Core.Folding;

/// <summary>The net effect of a batch on one key.</summary>
/// <param name="Kind">Insert, update or delete.</param>
/// <param name="Before">Holds the key for updates and deletes; none for inserts.</param>
/// <param name="After">The final row; none for deletes. Absent values keep what the target has.</param>
public readonly record struct FoldedRow(ChangeKind Kind, Row Before, Row After);
