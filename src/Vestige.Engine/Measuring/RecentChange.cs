using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Measuring;

/// <summary>
/// One of the latest changes a crossing applied, to be found on both sides by its key; with its origin where the source got it by
/// replication. Null as time of apply where that is not known any more.
/// </summary>
public sealed record RecentChange(
    TableName Table,
    ChangeKind Kind,
    string Key,
    LogPosition Position,
    DateTimeOffset CommittedAt,
    DateTimeOffset? AppliedAt,
    string? Origin
)
{
    /// <summary>Of a table without a key, the first values stand for the row.</summary>
    public static string KeyOf(TableSchema table, RowChange change)
    {
        if (change.Kind == ChangeKind.Schema)
        {
            return SchemaNotice.Of(change).What;
        }

        var row = change.After.IsNone ? change.Before : change.After;
        return row.IsNone ? ""
            : table.HasKey ? RowKey.Display(row, table.KeyOrdinals)
            : string.Join(", ", Enumerable.Range(0, Math.Min(3, row.Count)).Select(i => Short(row.DisplayAt(i))));
    }

    private static string Short(string value) => value.Length <= 40 ? value : $"{value[..39]}…";
}
