namespace Vestige.Core.Crossings;

/// <summary>What becomes of a table when its schema changes at the source.</summary>
public enum SchemaChangeAction
{
    /// <summary>It is made on the target as well.</summary>
    Carry,

    /// <summary>The table waits for a person, its changes are kept, and the others go on.</summary>
    Hold,

    /// <summary>
    /// The table waits for nobody: it is loaded again in place where it would wait. What can be made on the target without that is made.
    /// </summary>
    Reload,

    /// <summary>The target's table stays as it is, and continues without it.</summary>
    LeaveOut,

    /// <summary>The crossing stops before it, with all of its tables.</summary>
    Stop,
}
