namespace Vestige.Core.Crossings;

/// <summary>The one state a crossing has at any moment.</summary>
public enum CrossingState
{
    Draft,
    Checking,
    Loading,
    CatchingUp,
    Following,

    /// <summary>By a person; its place is kept.</summary>
    Paused,

    /// <summary>At a mark or by hand.</summary>
    Stopped,

    /// <summary>Rows only once, done.</summary>
    Finished,

    /// <summary>It cannot continue until a person acts.</summary>
    Faulted,
}
