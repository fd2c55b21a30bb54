using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>Folds the changes of each row into one, for targets that hold the rows as they are now.</summary>
internal sealed class FoldedBatchBuilder(Spool spool, ChangeRouter router) : IBatchBuilder
{
    private readonly List<RoutedChange> routed = [];
    private Dictionary<TableName, TableFold>? folds = [];
    private ChangeTally tally = new();

    public bool TakesFragments => false;

    public ImmutableDictionary<TableName, TableProgress> Tables => router.Tables;

    /// <summary>
    /// Routes and folds a transaction. False when it cannot be folded, for want of values that the log left out; the batch is
    /// then applied as it came, but all of the transaction has been routed.
    /// </summary>
    public bool TryAdd(SpooledFragment fragment)
    {
        var folded = true;
        var changes = new ChangeReader(fragment.Changes);
        while (changes.TryRead(out var change))
        {
            var held = router.Tables;
            folded &= TryRoute(fragment, change);
            folded &= TryFoldRouted(fragment);

            // Tables are changed where the changes are applied as they came: between the rows before and after.
            folded &= router.TakeEdits().Count == 0;
            if (!ReferenceEquals(held, router.Tables))
            {
                tally.AddSchemaChange(spool.Relation(change.Relation).Name, fragment.CommittedAt);
            }
        }

        folded &= TryRoute(fragment, null);
        folded &= TryFoldRouted(fragment);
        folds = folded ? folds : null;
        return folded;
    }

    public Batch Build(IReadOnlyList<SpooledFragment> fragments, ImmutableDictionary<TableName, TableProgress> before, TimeSpan treating)
    {
        var batch = new Batch(
            fragments,
            folds is null ? null : [.. folds.Values.Select(fold => fold.Finish())],
            before,
            router.Tables,
            tally,
            treating,
            router.Aside.Take(),
            router.Owners
        );
        (folds, tally) = ([], new ChangeTally());
        return batch;
    }

    private bool TryFoldRouted(SpooledFragment fragment)
    {
        var folded = true;
        foreach (var one in routed)
        {
            folded = folded && folds is not null && TryFold(folds, one);
            tally.Add(one, fragment);
        }

        return folded;
    }

    /// <summary>
    /// False when a change cannot be treated, or for null what its transaction made as a whole; applied one by one, it is met again and
    /// named.
    /// </summary>
    private bool TryRoute(SpooledFragment fragment, RowChange? change)
    {
        routed.Clear();
        try
        {
            if (change is { } one)
            {
                router.Route(fragment, one, routed);
            }
            else
            {
                router.End(fragment, routed);
            }

            return true;
        }
        catch (Exception exception)
            when (exception is RowRefusedException or SchemaChangeRefusedException or SchemaChangeStopException)
        {
            return false;
        }
    }

    /// <summary>Folds a change with those of its table before it; false where it cannot be.</summary>
    internal static bool TryFold(Dictionary<TableName, TableFold> folds, RoutedChange routed)
    {
        if (!folds.TryGetValue(routed.Schema.Name, out var fold))
        {
            folds.Add(routed.Schema.Name, fold = new TableFold(routed.Schema));
        }

        try
        {
            fold.Add(routed.Change);
            return true;
        }
        catch (FoldingException)
        {
            return false;
        }
    }
}
