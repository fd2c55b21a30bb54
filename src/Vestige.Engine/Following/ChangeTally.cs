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
    private readonly Dictionary<TableName, TableTally> tallies = [];
    private readonly Queue<(RoutedChange Routed, SpooledFragment Fragment)> recent = [];

    public IReadOnlyDictionary<TableName, TableTally> Tallies => tallies;

    public void Add(RoutedChange routed, SpooledFragment fragment)
    {
        ref var tally = ref CollectionsMarshal.GetValueRefOrAddDefault(tallies, routed.Source, out _);
        tally = (tally ?? TableTally.None).With(routed.Change.Kind, fragment.CommittedAt);
        recent.Enqueue((routed, fragment));
        if (recent.Count > KeptPerBatch)
        {
            recent.Dequeue();
        }
    }

    /// <summary>Notes that a table's form changed; that change itself is not applied.</summary>
    public void AddSchemaChange(TableName table, DateTimeOffset at) =>
        tallies[table] = tallies.GetValueOrDefault(table, TableTally.None).With(ChangeKind.Schema, at);

    public IReadOnlyList<RecentChange> Recent(DateTimeOffset appliedAt) =>
        [
            .. recent.Select(entry => new RecentChange(
                entry.Routed.Source,
                entry.Routed.Change.Kind,
                KeyOf(entry.Routed.Schema, entry.Routed.Change),
                entry.Fragment.Position,
                entry.Fragment.CommittedAt,
                appliedAt,
                entry.Fragment.Origin
            )),
        ];

    /// <summary>Of a table without a key, the first values stand for the row.</summary>
    private static string KeyOf(TableSchema table, RowChange change)
    {
        var row = change.After.IsNone ? change.Before : change.After;
        return row.IsNone ? ""
            : table.HasKey ? RowKey.Display(row, table.KeyOrdinals)
            : string.Join(", ", Enumerable.Range(0, Math.Min(3, row.Count)).Select(i => Short(row.DisplayAt(i))));
    }

    private static string Short(string value) => value.Length <= 40 ? value : $"{value[..39]}…";
}
