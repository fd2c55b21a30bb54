using System.Text.Json.Serialization;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Reconciling;

/// <summary>What was found of one table of the target.</summary>
public sealed record TableFinding
{
    /// <summary>The source's table.</summary>
    public required TableName Source { get; init; }

    /// <summary>The target's table.</summary>
    public required TableName Into { get; init; }

    /// <summary>As of where, the lowest of its segments; null when it was not compared.</summary>
    public LogPosition? Position { get; init; }

    /// <summary>When that was seen.</summary>
    public DateTimeOffset? At { get; init; }

    /// <summary>The source's rows, after the treatment.</summary>
    public long SourceRows { get; init; }

    /// <summary>The target's rows.</summary>
    public long TargetRows { get; init; }

    /// <summary>How many are equal.</summary>
    public long Same { get; init; }

    /// <summary>How many the target lacks.</summary>
    public long Missing { get; init; }

    /// <summary>How many only the target has.</summary>
    public long Extra { get; init; }

    /// <summary>How many have other values.</summary>
    public long Differing { get; init; }

    /// <summary>How many changed between the views of both sides; compared as they had to be at the target's.</summary>
    public long InFlight { get; init; }

    /// <summary>Why it was not compared, or not all of it; null when it was.</summary>
    public string? Reason { get; init; }

    /// <summary>Columns that were not compared, since the source does not tell them.</summary>
    public IReadOnlyList<string> LeftOut { get; init; } = [];

    /// <summary>Whether segments are by the keys' hashes.</summary>
    public bool ByHash { get; init; }

    /// <summary>Its segments; empty for a sample and for changed rows.</summary>
    public IReadOnlyList<SegmentFinding> Segments { get; init; } = [];

    /// <summary>The rows that differ, as far as they are listed.</summary>
    public IReadOnlyList<RowDifference> Rows { get; init; } = [];

    /// <summary>Whether more differ than are listed and counted.</summary>
    public bool NotListed { get; init; }

    /// <summary>How many rows the source's table has by its own estimate.</summary>
    public long EstimatedRows { get; init; }

    /// <summary>The form of the target's table; null when it was not compared.</summary>
    [JsonPropertyName("Form")]
    public TableSchema? Schema { get; init; }

    /// <summary>The target's columns whose values must not be shown.</summary>
    public IReadOnlyList<string>? Masked { get; init; }

    /// <summary>Whether a row has the same key on both sides, so that it can be traced and repaired by itself.</summary>
    public bool KeyPasses { get; init; }

    /// <summary>Whether every row was compared and none differs.</summary>
    public bool IsEqual => Reason is null && Position is not null && Missing + Extra + Differing == 0 && !NotListed;

    /// <summary>A table that was not compared.</summary>
    public static TableFinding None(TableName source, TableName into, string reason) =>
        new()
        {
            Source = source,
            Into = into,
            Reason = reason,
        };
}
