using System.Collections.Immutable;
using Vestige.Core.Crossings;
using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>
/// Some whole transactions, folded; or the head of one too large to fold (<see cref="Large"/>), whose parts follow one by
/// one from the gatherer.
/// </summary>
/// <param name="Fragments">What was read, in log order.</param>
/// <param name="Folded">The net effect; empty for a large transaction, null when it could not be folded.</param>
/// <param name="Last">The position after it.</param>
/// <param name="TablesBefore">The progress per table before it.</param>
/// <param name="TablesAfter">And after it.</param>
/// <param name="Tallies">What it holds, by table, and its last few changes.</param>
/// <param name="Treating">Time spent in routing and folding.</param>
/// <param name="Large">Whether it is the head of a large transaction.</param>
/// <param name="Aside">What it passes over: changes of rows that wait in quarantine.</param>
/// <param name="Owners">Whose rows the tables of <paramref name="Folded"/> hold.</param>
internal sealed record Batch(
    IReadOnlyList<SpooledFragment> Fragments,
    IReadOnlyList<FoldedTable>? Folded,
    LogPosition Last,
    ImmutableDictionary<TableName, TableProgress> TablesBefore,
    ImmutableDictionary<TableName, TableProgress> TablesAfter,
    ChangeTally Tallies,
    TimeSpan Treating,
    bool Large,
    AsideChanges Aside,
    ImmutableDictionary<TableName, TableOwner> Owners
)
{
    /// <summary>Whether a transaction of it lies behind a mark.</summary>
    public bool IsBeyond(StopMark mark) => Fragments.Any(fragment => fragment.IsBehind(mark));

    /// <summary>Tables whose progress it changes.</summary>
    public IReadOnlyList<TableProgress> Held =>
        ReferenceEquals(TablesBefore, TablesAfter)
            ? []
            : [.. TablesAfter.Values.Where(progress => TablesBefore[progress.Table] != progress)];
}
