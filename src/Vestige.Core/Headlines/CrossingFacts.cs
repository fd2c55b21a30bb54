using Vestige.Core.Crossings;
using Vestige.Core.Lag;

namespace Vestige.Core.Headlines;

/// <summary>All that is known of a crossing at one moment and may decide its headline.</summary>
public sealed record CrossingFacts
{
    public required CrossingState State { get; init; }

    /// <summary>Since when it has this state.</summary>
    public required DateTimeOffset Since { get; init; }

    /// <summary>The moment these facts are of.</summary>
    public required DateTimeOffset Now { get; init; }

    /// <summary>Who last started, paused or stopped it.</summary>
    public required string By { get; init; }

    /// <summary>How many tables it replicates.</summary>
    public int Tables { get; init; }

    /// <summary>Why it is faulted; null when it is not.</summary>
    public Trouble? Fault { get; init; }

    /// <summary>What of the source's log is lost to it; null when nothing is.</summary>
    public Trouble? PlaceLost { get; init; }

    /// <summary>Tables whose writes fail at the source; null when none do.</summary>
    public TroubledTables? SourceWritesFail { get; init; }

    /// <summary>
    /// In how long the source drops log that is still needed; null when the backlog clears before, or nothing is dropped.
    /// </summary>
    public TimeSpan? LogLostIn { get; init; }

    /// <summary>What cannot be reached; null when nothing keeps it waiting.</summary>
    public Trouble? Waiting { get; init; }

    /// <summary>When the next attempt is made; null where that is not known.</summary>
    public DateTimeOffset? NextAttempt { get; init; }

    /// <summary>What is full; null when nothing is.</summary>
    public Trouble? StorageFull { get; init; }

    /// <summary>Tables that are held; null when none are.</summary>
    public TroubledTables? Held { get; init; }

    /// <summary>Tables with changes in quarantine; null when there are none.</summary>
    public TroubledTables? Quarantined { get; init; }

    /// <summary>Tables whose rows differ; null when none do.</summary>
    public TroubledTables? Differing { get; init; }

    /// <summary>Its own rule that slows it down or keeps it at rest, as a sentence; null when none does.</summary>
    public string? LimitedBy { get; init; }

    /// <summary>Whether more arrives than is applied, so that the backlog never clears at this rate.</summary>
    public bool LosesGround { get; init; }

    /// <summary>How far behind it is; null before it has a position.</summary>
    public LagReading? Lag { get; init; }

    /// <summary>Changes captured and not applied.</summary>
    public long Backlog { get; init; }

    /// <summary>Tables that are loaded while others follow.</summary>
    public int LoadingBeside { get; init; }

    /// <summary>For how long that load has waited for the others, since it makes them late.</summary>
    public TimeSpan LoadSlowed { get; init; }

    /// <summary>The share of its load that is done, 0 to 1; null when it loads nothing, and before the first row is read.</summary>
    public double? Loaded { get; init; }

    /// <summary>When its load ends; null where that is not known.</summary>
    public TimeSpan? LoadEndsIn { get; init; }

    /// <summary>When the next run of its schedule begins; null without a schedule and during a run.</summary>
    public DateTimeOffset? NextRun { get; init; }

    /// <summary>Whether the source's log is kept for a draft.</summary>
    public bool KeepsLog { get; init; }
}
