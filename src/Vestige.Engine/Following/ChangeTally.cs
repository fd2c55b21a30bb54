using System.Runtime.InteropServices;
using Vestige.Core.Changes;
using Vestige.Core.Schemas;
using Vestige.Engine.Measuring;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Following;

/// <summary>Counts the changes of a batch by table and keeps the last few of them.</summary>
internal sealed class ChangeTally
{
    private const int KeptPerBatch = 20;
    private readonly Dictionary<TableName, Counts> counts = [];
    private readonly Queue<(RoutedChange Routed, SpooledFragment Fragment)> recent = [];

    /// <summary>By table, what was counted so far.</summary>
    public IReadOnlyDictionary<TableName, TableTally> Tallies => counts.ToDictionary(pair => pair.Key, pair => pair.Value.Tally);

    public void Add(RoutedChange routed, SpooledFragment fragment)
    {
        CountsOf(routed.Source).Add(routed.Change.Kind, fragment.CommittedAt);
        recent.Enqueue((routed, fragment));
        if (recent.Count > KeptPerBatch)
        {
            recent.Dequeue();
        }
    }

    /// <summary>Notes that a table's form changed; that change itself is not applied.</summary>
    public void AddSchemaChange(TableName table, DateTimeOffset at) => CountsOf(table).Add(ChangeKind.Schema, at);

    private Counts CountsOf(TableName table)
    {
        ref var found = ref CollectionsMarshal.GetValueRefOrAddDefault(counts, table, out _);
        return found ??= new Counts();
    }

    public IReadOnlyList<RecentChange> Recent(DateTimeOffset appliedAt) =>
        [
            .. recent.Select(entry => new RecentChange(
                entry.Routed.Source,
                entry.Routed.Change.Kind,
                RecentChange.KeyOf(entry.Routed.Schema, entry.Routed.Change),
                entry.Fragment.Position,
                entry.Fragment.CommittedAt,
                appliedAt,
                entry.Fragment.Origin
            )),
        ];

    /// <summary>Counted in place: every change of a crossing comes through here.</summary>
    private sealed class Counts
    {
        private long inserts;
        private long updates;
        private long deletes;
        private long truncates;
        private long schemaChanges;
        private DateTimeOffset last;

        public TableTally Tally => new(inserts, updates, deletes, truncates, schemaChanges, last, default);

        public void Add(ChangeKind kind, DateTimeOffset at)
        {
            last = at;
            switch (kind)
            {
                case ChangeKind.Insert:
                    inserts++;
                    break;
                case ChangeKind.Update:
                    updates++;
                    break;
                case ChangeKind.Delete:
                    deletes++;
                    break;
                case ChangeKind.Truncate:
                    truncates++;
                    break;
                default:
                    schemaChanges++;
                    break;
            }
        }
    }
}
