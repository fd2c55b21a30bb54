using Vestige.Core.Changes;
using Vestige.Core.Folding;

namespace Vestige.Engine.Rewinding;

/// <summary>What happened to some keys of a table between two positions.</summary>
/// <param name="Folded">The net changes.</param>
/// <param name="Passing">Rows, or their keys, that were at neither position, but between them.</param>
internal sealed record NetRows(FoldedTable Folded, IReadOnlyList<Row> Passing)
{
    /// <summary>Each key, as a row that has it, and the row at the later position; none where it is gone.</summary>
    public IEnumerable<(Row Key, Row After)> Final =>
        Folded
            .Rows.Select(row => row.Kind == ChangeKind.Delete ? (row.Before, default) : (row.After, row.After))
            .Concat(Passing.Select(row => (row, default(Row))));
}
