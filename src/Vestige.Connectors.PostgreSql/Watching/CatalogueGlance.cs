using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>What the catalogue said of some tables at one moment.</summary>
/// <param name="Begin">Everything before this place of the log was written before it.</param>
/// <param name="End">Everything that shows in it was written before this place.</param>
/// <param name="At">The server's time at its end.</param>
/// <param name="Tables">By name; one that is not there is missing.</param>
/// <param name="Names">What the known tables are called now, by number; one that is not there is missing.</param>
/// <param name="Types">The enums and composite types, by number; null when none of them changed.</param>
/// <param name="TypesPrint">A digest of all of them.</param>
/// <param name="UsersOf">The tables that use a type that changed, by the type's number.</param>
/// <param name="Horizon">Transactions before this one had ended when it began: their rows are older than it.</param>
/// <param name="Survived">
/// Tables with a new file in which rows stand that were written before the known state was seen: they were not written again.
/// </param>
/// <param name="Running">The transactions that had not ended when it began.</param>
/// <param name="Refusal">Why a table whose changes fail could not be taken out of the publication; null when nothing failed.</param>
internal sealed record CatalogueGlance(
    LogPosition Begin,
    LogPosition End,
    DateTimeOffset At,
    IReadOnlyDictionary<TableName, TableState> Tables,
    IReadOnlyDictionary<uint, TableName> Names,
    IReadOnlyDictionary<uint, TypeState>? Types,
    string TypesPrint,
    IReadOnlyDictionary<uint, IReadOnlySet<uint>> UsersOf,
    long Horizon,
    IReadOnlySet<uint> Survived,
    RunningTransactions Running,
    string? Refusal = null
)
{
    private static readonly ILookup<uint, RecordedChange> None = Array.Empty<RecordedChange>().ToLookup(change => change.State.Number);

    /// <summary>What the source has recorded of changes of tables since they were known, in their order, by the table's number.</summary>
    public ILookup<uint, RecordedChange> Recorded { get; init; } = None;

    /// <summary>
    /// Whether the log itself told it, at the place of what was done. <see cref="End"/> is the beginning of the log then: nothing that
    /// lies beyond was written before it.
    /// </summary>
    public bool IsOfTheLog { get; private init; }

    /// <summary>A table as the log tells it after a statement.</summary>
    public static CatalogueGlance Of(TableName name, TableState state) =>
        new(
            LogPosition.Zero,
            LogPosition.Zero,
            DateTimeOffset.MinValue,
            new Dictionary<TableName, TableState> { [name] = state },
            new Dictionary<uint, TableName> { [state.Number] = name },
            null,
            "",
            new Dictionary<uint, IReadOnlySet<uint>>(),
            0,
            new HashSet<uint>(),
            new RunningTransactions(0, [])
        )
        {
            IsOfTheLog = true,
        };

    /// <summary>The last of the records that are in a state of a table that it found; null where there is none.</summary>
    public long? LastRecordOf(TableState state) =>
        IsOfTheLog ? state.Record : Recorded[state.Number].Select(change => (long?)change.Number).LastOrDefault();
}
