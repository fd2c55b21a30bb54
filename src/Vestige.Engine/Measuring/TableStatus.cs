using Vestige.Core.Crossings;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Measuring;

/// <summary>One table of a crossing at one moment.</summary>
/// <param name="Source">Its name at the source.</param>
/// <param name="Target">Its name at the target.</param>
/// <param name="State">Its state.</param>
/// <param name="Cause">Why it is held; null when it is not.</param>
/// <param name="RowsLoaded">Rows written by the load at hand.</param>
/// <param name="RowsToLoad">Rows the load at hand is to write, as estimated; null when none is at hand.</param>
/// <param name="Tally">What was applied since the process started.</param>
public sealed record TableStatus(
    TableName Source,
    TableName Target,
    TableState State,
    string? Cause,
    long RowsLoaded,
    long? RowsToLoad,
    TableTally Tally);
