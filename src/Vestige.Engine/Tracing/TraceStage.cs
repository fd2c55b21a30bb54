namespace Vestige.Engine.Tracing;

/// <summary>How far a change has come in one crossing.</summary>
public enum TraceStage
{
    /// <summary>The table is still to be loaded, or is being loaded; the change comes with the rows, or after them.</summary>
    BeforeLoad,

    /// <summary>The rows were loaded as of a later position: the change is in them.</summary>
    InLoad,

    /// <summary>It waits in the spool to be applied.</summary>
    Waiting,

    /// <summary>It waits in quarantine.</summary>
    Quarantined,

    /// <summary>A person gave it up in quarantine.</summary>
    Dropped,

    /// <summary>The table is held from before it.</summary>
    Held,

    /// <summary>The definition leaves the row, or this kind of change, out.</summary>
    LeftOut,

    /// <summary>It is on the target.</summary>
    Applied,
}
