using Vestige.Core.Positions;

namespace Vestige.Engine.Rewinding;

/// <summary>What applying again would do.</summary>
/// <param name="From">Changes after here are applied again.</param>
/// <param name="Bytes">Log between there and what is spooled, in bytes of the source.</param>
/// <param name="Tables">The tables that were asked for.</param>
public sealed record RewindPlan(LogPosition From, long Bytes, IReadOnlyList<RewindTable> Tables)
{
    /// <summary>The tables whose changes can be applied again.</summary>
    public IReadOnlyList<RewindTable> Possible => [.. Tables.Where(table => table.Problem is null)];
}
