namespace Vestige.Core.Changes;

/// <summary>What happened to a table.</summary>
public enum ChangeKind : byte
{
    Insert = 1,
    Update = 2,
    Delete = 3,

    /// <summary>All rows of the table were removed at once.</summary>
    Truncate = 4,

    /// <summary>The table's form changed; the relation named is the new form, or the old one where the table was dropped.</summary>
    Schema = 5,
}
