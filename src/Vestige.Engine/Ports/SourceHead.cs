using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>A source's log as sampled at one moment.</summary>
/// <param name="Identity">Which log it is.</param>
/// <param name="Head">The end of the log.</param>
/// <param name="Oldest">What comes after this position is still in the log.</param>
/// <param name="HeldBytes">How much log the source keeps.</param>
/// <param name="LimitBytes">How much it keeps at most before it drops the oldest; null when it never drops.</param>
/// <param name="FirstUncaptured">Commit time of the first transaction after the captured position; null when there is none.</param>
/// <param name="Now">The source's own clock.</param>
/// <param name="Written">
/// The end of what had been written into the log by then, even if it cannot be read yet; null when that is the head.
/// </param>
public sealed record SourceHead(
    LogIdentity Identity,
    LogPosition Head,
    LogPosition Oldest,
    long HeldBytes,
    long? LimitBytes,
    DateTimeOffset? FirstUncaptured,
    DateTimeOffset Now,
    LogPosition? Written = null
);
