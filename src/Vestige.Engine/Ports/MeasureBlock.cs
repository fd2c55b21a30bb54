using Vestige.Core.Measures;

namespace Vestige.Engine.Ports;

/// <summary>The measures of one crossing within one block of time.</summary>
/// <param name="Crossing">The crossing.</param>
/// <param name="Step">How fine its slots are.</param>
/// <param name="Start">The beginning of the block.</param>
/// <param name="Slots">Oldest first; a slot in which nothing was seen is not among them.</param>
public sealed record MeasureBlock(string Crossing, MeasureStep Step, DateTimeOffset Start, IReadOnlyList<MeasureSlot> Slots);
