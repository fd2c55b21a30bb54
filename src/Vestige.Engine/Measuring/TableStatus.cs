using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Reconciling;

namespace Vestige.Engine.Measuring;

/// <summary>One table of a crossing at one moment.</summary>
/// <param name="Source">Its name at the source.</param>
/// <param name="Into">The target's tables that its rows go into.</param>
/// <param name="State">Its state.</param>
/// <param name="Cause">Why it is held; null when it is not.</param>
/// <param name="RowsLoaded">Rows written by the load at hand.</param>
/// <param name="RowsToLoad">Rows the load at hand is to write, as estimated; null when none is at hand.</param>
/// <param name="Quarantined">How many of its changes wait in quarantine.</param>
/// <param name="Behind">
/// By how much it is behind at most: what waits of the crossing may concern other tables. Null while it is loaded or held.
/// </param>
/// <param name="Verdict">What comparing both sides said of it last; null when it was not compared since its load.</param>
/// <param name="Tally">What was applied since the process started.</param>
public sealed record TableStatus(
    TableName Source,
    IReadOnlyList<TableName> Into,
    TableState State,
    string? Cause,
    long RowsLoaded,
    long? RowsToLoad,
    int Quarantined,
    TimeSpan? Behind,
    Verdict? Verdict,
    TableTally Tally
)
{
    /// <summary>Since when it is held; null when it is not, or that is not known.</summary>
    public DateTimeOffset? HeldSince { get; init; }

    /// <summary>The position from which on nothing is applied to it; null when it is not held.</summary>
    public LogPosition? HeldAt { get; init; }

    /// <summary>Whether it is held and its changes are kept, so that it continues once somebody agrees to what holds it.</summary>
    public bool MayContinue { get; init; }

    /// <summary>The first of the target's tables, for most the only one.</summary>
    public TableName Target => Into[0];

    /// <summary>Whether rows of it wait in quarantine while its other rows are replicated.</summary>
    public bool IsOnlyQuarantined => Quarantined > 0 && HeldSince is null;

    /// <summary>The word that pages show for its state.</summary>
    public string Word => IsOnlyQuarantined ? "quarantine" : State.Word();
}
