namespace Vestige.Core.Joining;

/// <summary>How it is known that the end of one branch and the beginning of the next are one state of the data.</summary>
public enum JoinKind
{
    /// <summary>Both sides were closed and compared equal.</summary>
    Proved,

    /// <summary>
    /// After a failure: both sides had applied the same sealed branch up to its end. Nothing counts as proved equal since.
    /// </summary>
    Derived,

    /// <summary>The new log itself says that it holds exactly what was read of the old one.</summary>
    Continued,
}
