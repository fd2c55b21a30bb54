namespace Vestige.Core.Schemas;

/// <summary>When a part of a table's structure is made.</summary>
public enum SchemaStage
{
    /// <summary>Before the table: schemas and types.</summary>
    Before,

    /// <summary>The table itself.</summary>
    Table,

    /// <summary>After the rows: the primary key.</summary>
    PrimaryKey,

    /// <summary>After the rows: other keys.</summary>
    Key,

    /// <summary>After the keys: other indexes.</summary>
    Index,

    /// <summary>Last: references to other tables.</summary>
    Reference,

    /// <summary>Within the statement that makes the table: columns that the database computes, and checks.</summary>
    Within,
}
