using Vestige.Core.Positions;

namespace Vestige.Engine.Reconciling;

/// <summary>That a table was equal on both sides.</summary>
/// <param name="Position">As of where in the source's log.</param>
/// <param name="At">When that was seen.</param>
/// <param name="Rows">How many of the source's rows were compared, after the treatment.</param>
public sealed record Proof(LogPosition Position, DateTimeOffset At, long Rows);
