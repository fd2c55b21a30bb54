using Vestige.Core.Schemas;

namespace Vestige.Core.Folding;

/// <summary>The net effect of a batch on one table.</summary>
/// <param name="Table">The form of the table under which all rows of the batch were written.</param>
/// <param name="EmptiedFirst">True when the batch truncated the table; the rows then apply to the empty table.</param>
/// <param name="Rows">At most one per key, in the order in which the keys were first touched.</param>
public sealed record FoldedTable(TableSchema Table, bool EmptiedFirst, IReadOnlyList<FoldedRow> Rows);
