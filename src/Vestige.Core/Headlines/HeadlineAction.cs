namespace Vestige.Core.Headlines;

/// <summary>The one thing to do next about a reason.</summary>
public enum HeadlineAction
{
    /// <summary>Start the draft.</summary>
    Start,

    /// <summary>Resume the crossing.</summary>
    Resume,

    /// <summary>Reload all its tables.</summary>
    Reload,

    /// <summary>Reload or release the tables that are held.</summary>
    OpenHeld,

    /// <summary>Retry now instead of at the next attempt.</summary>
    RetryNow,

    /// <summary>Decide about the changes in quarantine.</summary>
    OpenQuarantine,

    /// <summary>Look at the rows that differ, and repair them.</summary>
    OpenDifferences,

    /// <summary>Look at the source's connection.</summary>
    OpenSource,

    /// <summary>Look at where the delay sits.</summary>
    OpenDelay,
}
