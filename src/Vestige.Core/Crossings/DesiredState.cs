namespace Vestige.Core.Crossings;

/// <summary>What a person last asked of a crossing; kept, so that a restart resumes what ran.</summary>
public enum DesiredState
{
    Draft,

    /// <summary>
    /// A draft whose source is to keep, from then on, what its tables will need: they are loaded by other means meanwhile.
    /// </summary>
    KeepLog,

    Run,
    Pause,
    Stop,

    /// <summary>Nothing more: it has carried what it was to carry.</summary>
    Finish,
}
