using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>Keeps transactions as they were, for targets that take changes in order; large ones come part by part.</summary>
internal sealed class OrderedBatchBuilder(Spool spool, ChangeRouter router) : IBatchBuilder
{
    private readonly List<RoutedChange> routed = [];
    private List<OrderedTransaction> transactions = [];
    private ChangeTally tally = new();

    /// <summary>How many changes of the transaction at hand were read, those that do not cross among them.</summary>
    private int read;

    public bool TakesFragments => true;

    public ImmutableDictionary<TableName, TableProgress> Tables => router.Tables;

    public bool TryAdd(SpooledFragment fragment)
    {
        read = fragment.First ? 0 : read;
        var made = new List<OrderedChange>();
        var changes = new ChangeReader(fragment.Changes);
        while (changes.TryRead(out var change))
        {
            var held = router.Tables;
            routed.Clear();
            router.Route(fragment, change, routed);
            Take(fragment, made);
            if (!ReferenceEquals(held, router.Tables))
            {
                tally.AddSchemaChange(spool.Relation(change.Relation).Name, fragment.CommittedAt);
            }

            read++;
        }

        // What a transaction makes as a whole counts as made of one more change after its last.
        routed.Clear();
        router.End(fragment, routed);
        Take(fragment, made);
        if (made.Count > 0 || !fragment.Whole)
        {
            transactions.Add(
                new OrderedTransaction(
                    spool.Branches[fragment.Position.Branch].Identity,
                    fragment.Position,
                    fragment.CommittedAt,
                    fragment.Origin,
                    fragment.First,
                    fragment.Last,
                    made
                )
            );
        }

        return true;
    }

    public Batch Build(IReadOnlyList<SpooledFragment> fragments, ImmutableDictionary<TableName, TableProgress> before, TimeSpan treating)
    {
        var batch = new Batch(fragments, [], before, router.Tables, tally, treating, router.Aside.Take(), router.Owners)
        {
            Ordered = transactions,
        };
        (transactions, tally) = ([], new ChangeTally());
        return batch;
    }

    private void Take(SpooledFragment fragment, List<OrderedChange> made)
    {
        for (var number = 0; number < routed.Count; number++)
        {
            var one = routed[number];
            made.Add(new OrderedChange(read, number, one.Source, one.Schema, one.Change));
            tally.Add(one, fragment);
        }
    }
}
