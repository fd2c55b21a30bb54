using Vestige.Core.Positions;

namespace Vestige.Core.Crossings;

/// <summary>Where a crossing comes to rest with its target in a known state. Exactly one of both is given.</summary>
/// <param name="Position">Everything up to here is applied, and nothing after it.</param>
/// <param name="Time">
/// Everything is applied that stands in the log before the first transaction that was committed later, by the source's clock.
/// </param>
public sealed record StopMark(LogPosition? Position = null, DateTimeOffset? Time = null)
{
    /// <summary>Whether a transaction lies beyond the mark.</summary>
    /// <param name="position">Of its commit.</param>
    /// <param name="committedAt">By the source's clock.</param>
    public bool IsBefore(LogPosition position, DateTimeOffset committedAt) => position > Position || committedAt > Time;
}
