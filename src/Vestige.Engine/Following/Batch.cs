using System.Collections.Immutable;
using Vestige.Core.Crossings;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>
/// Some transactions in the shape in which a target takes them; or the head of one too large to fold (<see cref="Large"/>), whose parts
/// follow one by one from the gatherer.
/// </summary>
/// <param name="Fragments">What was read, in log order.</param>
/// <param name="Folded">The net effect; empty where it is not folded, or large, null when it could not be folded.</param>
/// <param name="TablesBefore">The progress per table before it.</param>
/// <param name="TablesAfter">And after it.</param>
/// <param name="Tallies">What it holds, by table, and its last few changes.</param>
/// <param name="Treating">Time spent in routing and folding.</param>
/// <param name="Aside">What it passes over: changes of rows that wait in quarantine.</param>
/// <param name="Owners">Whose rows the target's tables hold.</param>
internal sealed record Batch(
    IReadOnlyList<SpooledFragment> Fragments,
    IReadOnlyList<FoldedTable>? Folded,
    ImmutableDictionary<TableName, TableProgress> TablesBefore,
    ImmutableDictionary<TableName, TableProgress> TablesAfter,
    ChangeTally Tallies,
    TimeSpan Treating,
    AsideChanges Aside,
    ImmutableDictionary<TableName, TableOwner> Owners
)
{
    /// <summary>Whether it is the head of a large transaction.</summary>
    public bool Large { get; init; }

    /// <summary>The transactions, or parts of them, as they were; empty where they are folded.</summary>
    public IReadOnlyList<OrderedTransaction> Ordered { get; init; } = [];

    /// <summary>The progress after it; none where it ends within a transaction that began in it.</summary>
    public ProgressUpdate Update
    {
        get
        {
            var end = Fragments.LastOrDefault(fragment => fragment.Last);
            return new ProgressUpdate(end?.Position, Held, Token: end?.Token);
        }
    }

    /// <summary>The head of a transaction whose parts are read one by one as they are applied.</summary>
    public static Batch OfLarge(SpooledFragment head, ImmutableDictionary<TableName, TableProgress> tables) =>
        new(
            [head],
            [],
            tables,
            tables,
            new ChangeTally(),
            TimeSpan.Zero,
            new AsideChanges(),
            ImmutableDictionary<TableName, TableOwner>.Empty
        )
        {
            Large = true,
        };

    /// <summary>Whether a transaction of it lies beyond a mark.</summary>
    public bool IsBeyond(StopMark mark) => Fragments.Any(fragment => fragment.IsAfter(mark));

    /// <summary>Tables whose progress it changes.</summary>
    public IReadOnlyList<TableProgress> Held =>
        ReferenceEquals(TablesBefore, TablesAfter)
            ? []
            : [.. TablesAfter.Values.Where(progress => TablesBefore[progress.Table] != progress)];
}
