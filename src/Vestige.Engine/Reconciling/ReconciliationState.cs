namespace Vestige.Engine.Reconciling;

/// <summary>How far a comparison is.</summary>
public enum ReconciliationState
{
    Running,

    Done,

    /// <summary>Given up by a person, or with the process.</summary>
    Cancelled,

    /// <summary>It could not go on; what it had found stays.</summary>
    Failed,
}
