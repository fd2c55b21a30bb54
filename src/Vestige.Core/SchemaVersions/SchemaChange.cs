namespace Vestige.Core.SchemaVersions;

/// <summary>One difference between a version of a table and the next.</summary>
/// <param name="Kind">What is different.</param>
/// <param name="Subject">The column, the columns of a key, or the object; for a column that was renamed, its new name.</param>
/// <param name="Before">What it was: a type, a default, a name; null where there was nothing.</param>
/// <param name="After">What it is; null where there is nothing any more.</param>
public sealed record SchemaChange(SchemaChangeKind Kind, string Subject, string? Before = null, string? After = null)
{
    /// <summary>As a sentence without its full stop.</summary>
    public string Words =>
        Kind switch
        {
            SchemaChangeKind.TableCreated => "Table found",
            SchemaChangeKind.TableDropped => "Table dropped or renamed",
            SchemaChangeKind.TableReplaced => "Another table has the name",
            SchemaChangeKind.ColumnAdded => $"Column {Subject} added ({After})",
            SchemaChangeKind.ColumnDropped => $"Column {Subject} dropped (was {Before})",
            SchemaChangeKind.ColumnRenamed => $"Column {Before} renamed to {Subject}",
            SchemaChangeKind.TypeChanged => $"Type of column {Subject} changed from {Before} to {After}",
            SchemaChangeKind.NullabilityChanged => $"Column {Subject} changed from {Before} to {After}",
            SchemaChangeKind.DefaultChanged => (Before, After) switch
            {
                (null, _) => $"Default of column {Subject} set to {After}",
                (_, null) => $"Default of column {Subject} dropped (was {Before})",
                _ => $"Default of column {Subject} changed from {Before} to {After}",
            },
            SchemaChangeKind.CollationChanged =>
                $"Collation of column {Subject} changed from {Before ?? "the type's own"} to {After ?? "the type's own"}",
            SchemaChangeKind.KeyChanged => (Before, After) switch
            {
                (null, _) => $"Key added ({After})",
                (_, null) => $"Key dropped (was {Before})",
                _ => $"Key changed from ({Before}) to ({After})",
            },
            SchemaChangeKind.ColumnsReordered => $"Columns reordered ({After})",
            SchemaChangeKind.UniqueKeyAdded => $"Unique key added ({Subject})",
            SchemaChangeKind.UniqueKeyDropped => $"Unique key dropped ({Subject})",
            SchemaChangeKind.ReferenceAdded => $"Reference added ({Subject} to {After})",
            SchemaChangeKind.ReferenceDropped => $"Reference dropped ({Subject} to {Before})",
            SchemaChangeKind.ConstraintDropped => $"Constraint {Subject} dropped (was {Before})",
            SchemaChangeKind.ConstraintRenamed => $"Constraint {Before} renamed to {Subject}",
            SchemaChangeKind.ObjectAdded => $"{Subject} added",
            SchemaChangeKind.ObjectDropped => $"{Subject} dropped",
            SchemaChangeKind.PartDetached => $"Partition {Subject} {After ?? "detached or dropped"}",
            _ => $"{Subject} changed",
        };

    /// <summary>Whether the table takes less than before: a column takes NULL no longer.</summary>
    public bool KeepsOut => Kind == SchemaChangeKind.NullabilityChanged && After == "NOT NULL";

    /// <summary>Whether rows went with it that no change of a row tells.</summary>
    public bool TakesRows => Kind == SchemaChangeKind.PartDetached;

    /// <summary>Whether rows written before and after it are read alike: the columns, their types and the key are the same.</summary>
    public bool KeepsRows =>
        Kind
            is SchemaChangeKind.NullabilityChanged
                or SchemaChangeKind.DefaultChanged
                or SchemaChangeKind.CollationChanged
                or SchemaChangeKind.UniqueKeyAdded
                or SchemaChangeKind.UniqueKeyDropped
                or SchemaChangeKind.ReferenceAdded
                or SchemaChangeKind.ReferenceDropped
                or SchemaChangeKind.ConstraintDropped
                or SchemaChangeKind.ConstraintRenamed
                or SchemaChangeKind.ObjectAdded
                or SchemaChangeKind.ObjectDropped
                or SchemaChangeKind.ObjectChanged;
}
