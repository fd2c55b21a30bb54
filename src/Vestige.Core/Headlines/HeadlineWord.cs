namespace Vestige.Core.Headlines;

/// <summary>What a crossing's headline says in a word. Worst first: of several that hold, the first is the headline.</summary>
public enum HeadlineWord
{
    /// <summary>It cannot resume until a person acts.</summary>
    Faulted,

    /// <summary>Changes committed after its position are lost to it.</summary>
    PlaceLost,

    /// <summary>The source refuses writes of its own applications because it is being captured.</summary>
    SourceWritesFail,

    /// <summary>The source drops log that is still needed before the backlog clears.</summary>
    LogAtRisk,

    /// <summary>The source or the target cannot be reached; Vestige retries.</summary>
    Waiting,

    /// <summary>The spool or the store is full.</summary>
    StorageFull,

    /// <summary>Tables are held until someone decides.</summary>
    Held,

    /// <summary>Changes are quarantined.</summary>
    Quarantine,

    /// <summary>Rows differ between source and target.</summary>
    Differs,

    /// <summary>Paused by a person.</summary>
    Paused,

    /// <summary>Stopped by a person, at a mark or between two runs.</summary>
    Stopped,

    /// <summary>Being checked before it starts.</summary>
    Checking,

    /// <summary>Loading rows.</summary>
    Loading,

    /// <summary>Applying a backlog that gets smaller.</summary>
    CatchingUp,

    /// <summary>Slowed down or at rest by a rule of its own definition.</summary>
    Limited,

    /// <summary>Later than it should be, with nothing else to explain it.</summary>
    Behind,

    /// <summary>Keeping pace.</summary>
    Following,

    /// <summary>Everything it was to copy is copied.</summary>
    Finished,

    /// <summary>Not started yet.</summary>
    Draft,
}
