using Vestige.Core.Forecasting;
using Vestige.Core.Positions;

namespace Vestige.Engine.Capturing;

/// <summary>Where the reading of one source's log stands. A picture of one moment.</summary>
/// <param name="Connection">The source connection.</param>
/// <param name="Running">Whether the log is being read.</param>
/// <param name="Waiting">Why it is not, in words; null while it runs.</param>
/// <param name="WaitingSince">Since when.</param>
/// <param name="LostPlace">The log no longer reaches back to where the spool ends.</param>
/// <param name="Head">The source's head as last sampled.</param>
/// <param name="Captured">Read up to here.</param>
/// <param name="Spooled">Durable up to here.</param>
/// <param name="PassedHead">The reader is at or past the last sampled head.</param>
/// <param name="ProvenAt">When that last was so.</param>
/// <param name="ReadThrough">
/// By the source's clock: everything that was committed by then is durable here; null until that is known.
/// </param>
/// <param name="SampledAt">When the head was last sampled.</param>
/// <param name="FirstUncaptured">Commit time of the first transaction not captured, as last sampled.</param>
/// <param name="FirstUnspooled">Commit time of the first transaction captured and not durable.</param>
/// <param name="LogBytes">Log kept at the source.</param>
/// <param name="LogLimit">The most it keeps; null when it does not drop.</param>
/// <param name="SpoolBytes">Size of the spool.</param>
/// <param name="SpoolBudget">Its limit.</param>
/// <param name="BytesPerSecond">Log bytes a second the source wrote, lately.</param>
/// <param name="LogGrowth">The range of the same over some minutes.</param>
/// <param name="SpoolGrowth">The range of the bytes a second written to the spool, over some minutes.</param>
/// <param name="ClockDifference">The source's clock minus ours.</param>
public sealed record CaptureStatus(
    string Connection,
    bool Running,
    string? Waiting,
    DateTimeOffset? WaitingSince,
    bool LostPlace,
    LogPosition Head,
    LogPosition Captured,
    LogPosition Spooled,
    bool PassedHead,
    DateTimeOffset? ProvenAt,
    DateTimeOffset? ReadThrough,
    DateTimeOffset SampledAt,
    DateTimeOffset? FirstUncaptured,
    DateTimeOffset? FirstUnspooled,
    long LogBytes,
    long? LogLimit,
    long SpoolBytes,
    long SpoolBudget,
    double BytesPerSecond,
    RateRange LogGrowth,
    RateRange SpoolGrowth,
    TimeSpan ClockDifference
);
