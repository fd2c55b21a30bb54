using Vestige.Core.Positions;

namespace Vestige.Engine.Reconciling;

/// <summary>What was found of one segment.</summary>
/// <param name="From">Its first key, as a person reads it; null where open or by hash.</param>
/// <param name="Before">The key before which it ends; null where open or by hash.</param>
/// <param name="Rows">The source's rows in it, after the treatment.</param>
/// <param name="State">How it stands.</param>
/// <param name="Position">As of where in the source's log.</param>
/// <param name="InFlight">Its rows that changed between the views of both sides, and were compared as they had to be.</param>
public sealed record SegmentFinding(string? From, string? Before, long Rows, SegmentState State, LogPosition Position, int InFlight);
