using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Reconciling;

/// <summary>What was found of one table of the target.</summary>
/// <param name="Source">The source's table.</param>
/// <param name="Into">The target's table.</param>
/// <param name="Position">As of where, the lowest of its segments; null when it was not compared.</param>
/// <param name="At">When that was seen.</param>
/// <param name="SourceRows">The source's rows, after the treatment.</param>
/// <param name="TargetRows">The target's rows.</param>
/// <param name="Same">How many are equal.</param>
/// <param name="Missing">How many the target lacks.</param>
/// <param name="Extra">How many only the target has.</param>
/// <param name="Differing">How many have other values.</param>
/// <param name="InFlight">How many changed between the views of both sides; compared as they had to be at the target's.</param>
/// <param name="Reason">Why it was not compared, or not all of it; null when it was.</param>
/// <param name="LeftOut">Columns that were not compared, since the source does not tell them.</param>
/// <param name="ByHash">Whether segments are by the keys' hashes.</param>
/// <param name="Segments">Its segments; empty for a sample and for changed rows.</param>
/// <param name="Rows">The rows that differ, as far as they are listed.</param>
/// <param name="NotListed">Whether more differ than are listed and counted.</param>
/// <param name="EstimatedRows">How many rows the source's table has by its own estimate.</param>
/// <param name="Form">The form of the target's table; null when it was not compared.</param>
/// <param name="Masked">The target's columns whose values must not be shown.</param>
/// <param name="KeyPasses">Whether a row has the same key on both sides, so that it can be traced and repaired by itself.</param>
public sealed record TableFinding(
    TableName Source,
    TableName Into,
    LogPosition? Position,
    DateTimeOffset? At,
    long SourceRows,
    long TargetRows,
    long Same,
    long Missing,
    long Extra,
    long Differing,
    long InFlight,
    string? Reason,
    IReadOnlyList<string> LeftOut,
    bool ByHash,
    IReadOnlyList<SegmentFinding> Segments,
    IReadOnlyList<RowDifference> Rows,
    bool NotListed = false,
    long EstimatedRows = 0,
    TableSchema? Form = null,
    IReadOnlyList<string>? Masked = null,
    bool KeyPasses = false
)
{
    /// <summary>Whether every row was compared and none differs.</summary>
    public bool IsEqual => Reason is null && Position is not null && Missing + Extra + Differing == 0 && !NotListed;

    /// <summary>A table that was not compared.</summary>
    public static TableFinding None(TableName source, TableName into, string reason) =>
        new(source, into, null, null, 0, 0, 0, 0, 0, 0, 0, reason, [], false, [], []);
}
