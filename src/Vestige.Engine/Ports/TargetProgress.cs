using Vestige.Core.Positions;

namespace Vestige.Engine.Ports;

/// <summary>What the target knows of a crossing: committed with its rows, so that the two cannot disagree.</summary>
/// <param name="Identity">The source's log the positions belong to; null before the first load.</param>
/// <param name="Position">Everything up to here is applied, tables that are behind or held apart; null before the first load ends.</param>
/// <param name="Tables">The tables that were begun.</param>
public sealed record TargetProgress(LogIdentity? Identity, LogPosition? Position, IReadOnlyList<TableProgress> Tables)
{
    public static TargetProgress None { get; } = new(null, null, []);
}
