namespace Vestige.Core.Changes;

/// <summary>One change of one row, or of a whole table.</summary>
/// <param name="Kind">What happened.</param>
/// <param name="Relation">The form of the table under which the rows were written; a number given by the source.</param>
/// <param name="Before">The row before; none for inserts and whole-table changes.</param>
/// <param name="After">The row after; none for deletes and truncates. For a schema change: one text, what was done.</param>
public readonly record struct RowChange(ChangeKind Kind, int Relation, Row Before, Row After);
