using Vestige.Core.Forecasting;
using Vestige.Core.Positions;

namespace Vestige.Engine.Capturing;

/// <summary>Where the reading of one source's log stands. A picture of one moment.</summary>
public sealed record CaptureStatus
{
    /// <summary>The source connection.</summary>
    public required string Connection { get; init; }

    /// <summary>Whether the log is being read.</summary>
    public bool Running { get; init; }

    /// <summary>Why it is not, in words; null while it runs.</summary>
    public string? Waiting { get; init; }

    /// <summary>Since when.</summary>
    public DateTimeOffset? WaitingSince { get; init; }

    /// <summary>When the next attempt to read it is made; null where that is not known, and while it runs.</summary>
    public DateTimeOffset? NextAttempt { get; init; }

    /// <summary>The log no longer reaches back to where the spool ends.</summary>
    public bool LostPlace { get; init; }

    /// <summary>The source's head as last sampled.</summary>
    public LogPosition Head { get; init; }

    /// <summary>Read up to here.</summary>
    public LogPosition Captured { get; init; }

    /// <summary>Durable up to here.</summary>
    public LogPosition Spooled { get; init; }

    /// <summary>The reader is at or past the last sampled head.</summary>
    public bool PassedHead { get; init; }

    /// <summary>When that last was so.</summary>
    public DateTimeOffset? ProvenAt { get; init; }

    /// <summary>By the source's clock: everything that was committed by then is durable here; null until that is known.</summary>
    public DateTimeOffset? ReadThrough { get; init; }

    /// <summary>When the head was last sampled.</summary>
    public DateTimeOffset SampledAt { get; init; }

    /// <summary>Commit time of the first transaction not captured, as last sampled.</summary>
    public DateTimeOffset? FirstUncaptured { get; init; }

    /// <summary>Commit time of the first transaction captured and not durable.</summary>
    public DateTimeOffset? FirstUnspooled { get; init; }

    /// <summary>Log kept at the source.</summary>
    public long LogBytes { get; init; }

    /// <summary>The most it keeps; null when it does not drop.</summary>
    public long? LogLimit { get; init; }

    /// <summary>Size of the spool.</summary>
    public long SpoolBytes { get; init; }

    /// <summary>Its limit.</summary>
    public long SpoolBudget { get; init; }

    /// <summary>Log bytes a second the source wrote, lately.</summary>
    public double BytesPerSecond { get; init; }

    /// <summary>The range of the same over some minutes.</summary>
    public required RateRange LogGrowth { get; init; }

    /// <summary>The range of the bytes a second written to the spool, over some minutes.</summary>
    public required RateRange SpoolGrowth { get; init; }

    /// <summary>The source's clock minus ours.</summary>
    public TimeSpan ClockDifference { get; init; }
}
