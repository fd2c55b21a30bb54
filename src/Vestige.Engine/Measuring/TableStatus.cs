using Vestige.Core.Crossings;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Measuring;

/// <summary>One table of a crossing at one moment.</summary>
/// <param name="Source">Its name at the source.</param>
/// <param name="Into">The target's tables that its rows go into.</param>
/// <param name="State">Its state.</param>
/// <param name="Cause">Why it is held; null when it is not.</param>
/// <param name="RowsLoaded">Rows written by the load at hand.</param>
/// <param name="RowsToLoad">Rows the load at hand is to write, as estimated; null when none is at hand.</param>
/// <param name="Tally">What was applied since the process started.</param>
public sealed record TableStatus(
    TableName Source,
    IReadOnlyList<TableName> Into,
    TableState State,
    string? Cause,
    long RowsLoaded,
    long? RowsToLoad,
    TableTally Tally)
{
    /// <summary>The first of the target's tables, for most the only one.</summary>
    public TableName Target => Into[0];
}
