namespace Vestige.Core.Crossings;

/// <summary>What a person last asked of a crossing; kept, so that a restart resumes what ran.</summary>
public enum DesiredState
{
    Draft,
    Run,
    Pause,
    Stop,

    /// <summary>Nothing more: it has carried what it was to carry.</summary>
    Finish,
}
