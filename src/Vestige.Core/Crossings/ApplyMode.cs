namespace Vestige.Core.Crossings;

/// <summary>What becomes of a table's changes on the target.</summary>
public enum ApplyMode
{
    /// <summary>Inserted and updated rows are written, deleted ones go: the target holds what the source holds.</summary>
    Upsert,

    /// <summary>Inserted rows are written. Updates, deletes and truncations of the source do not reach the target.</summary>
    InsertOnly,

    /// <summary>Inserted and updated rows are written; a deleted one stays and gets the time at which it was deleted.</summary>
    KeepDeleted,

    /// <summary>Every state that a row had after a transaction stays, with the times from and to which it held.</summary>
    KeepVersions,
}
