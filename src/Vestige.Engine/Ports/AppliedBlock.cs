using Vestige.Engine.Measuring;

namespace Vestige.Engine.Ports;

/// <summary>By when a crossing had applied how far, within one hour.</summary>
/// <param name="Crossing">The crossing.</param>
/// <param name="Start">The beginning of the hour.</param>
/// <param name="Times">One for each minute in which something was applied, oldest first.</param>
public sealed record AppliedBlock(string Crossing, DateTimeOffset Start, IReadOnlyList<AppliedTime> Times)
{
    /// <summary>So long they are kept.</summary>
    public static TimeSpan Kept { get; } = TimeSpan.FromDays(1);
}
