using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>What happened to the parts of a table and is not in the log.</summary>
/// <param name="Table">The table as a whole.</param>
/// <param name="What">What happened, as the end of a sentence.</param>
internal sealed record PartChange(TableName Table, string What)
{
    /// <summary>The parts that are gone, where that is all, and no row that satisfies their bounds is left; else empty.</summary>
    public IReadOnlyList<SchemaChange> Gone { get; init; } = [];

    /// <summary>Whether the log has all rows that came with it, so that copies need not know.</summary>
    public bool IsInLog { get; init; }
}
