namespace Vestige.Core.SchemaVersions;

/// <summary>What one change of a table's schema does.</summary>
public enum SchemaChangeKind
{
    /// <summary>The table is there, as far as is known for the first time.</summary>
    TableCreated,

    /// <summary>There is no table of that name any more.</summary>
    TableDropped,

    /// <summary>Another table has the name.</summary>
    TableReplaced,

    ColumnAdded,

    ColumnDropped,

    ColumnRenamed,

    TypeChanged,

    /// <summary>A column takes NULL from here on, or no longer does.</summary>
    NullabilityChanged,

    DefaultChanged,

    CollationChanged,

    /// <summary>The columns that identify a row are others, or in another order.</summary>
    KeyChanged,

    /// <summary>The same columns are in another order.</summary>
    ColumnsReordered,

    UniqueKeyAdded,

    UniqueKeyDropped,

    ReferenceAdded,

    ReferenceDropped,

    /// <summary>The type of a column takes a value that it did not: an enum got a label.</summary>
    LabelAdded,

    /// <summary>What kept rows out is gone: a unique key or index, an exclusion, a check or a reference.</summary>
    ConstraintDropped,

    /// <summary>The same under another name.</summary>
    ConstraintRenamed,

    /// <summary>An index, a check or another object that belongs to the table.</summary>
    ObjectAdded,

    ObjectDropped,

    ObjectChanged,

    /// <summary>
    /// A part of a partitioned table was detached, dropped or truncated, and its rows went with it. <see cref="SchemaChange.Before"/> is
    /// the condition that its rows satisfy, in the source's words.
    /// </summary>
    PartDetached,

    /// <summary>An index or what keeps rows out was added: a unique key, an exclusion, a check or a reference. Of rules only.</summary>
    ConstraintAdded,
}
