namespace Vestige.Core.Crossings;

/// <summary>The state of one table within a crossing.</summary>
public enum TableState
{
    Waiting,
    Loading,
    CatchingUp,
    Following,

    /// <summary>Something about this table alone waits for a person; the cause is said with it.</summary>
    Held,

    LeftOut,
}
