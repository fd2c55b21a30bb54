using Vestige.Core.Positions;

namespace Vestige.Engine.Measuring;

/// <summary>Everything up to a position was applied by then.</summary>
/// <param name="Upto">The position.</param>
/// <param name="At">When, by this installation's clock.</param>
public readonly record struct AppliedTime(LogPosition Upto, DateTimeOffset At);
