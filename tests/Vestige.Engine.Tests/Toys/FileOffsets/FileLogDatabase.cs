using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Tests.Toys.FileOffsets;

/// <summary>A database of a few tables whose log moves to another server when that takes over. Safe for several threads.</summary>
public sealed class FileLogDatabase(IReadOnlyList<TableSchema> tables)
{
    private readonly Dictionary<TableName, SortedDictionary<long, Row>> rows = tables.ToDictionary(
        table => table.Name,
        _ => new SortedDictionary<long, Row>()
    );
    private TaskCompletionSource grown = New();
    private int servers = 1;

    /// <summary>To be held while the database is looked at.</summary>
    public Lock Gate { get; } = new();

    public IReadOnlyList<TableSchema> Tables => tables;

    /// <summary>The server that is written to.</summary>
    public FileLogServer Server { get; private set; } = FileLogServer.First();

    /// <summary>Ends at the next transaction, or when another server takes over.</summary>
    public Task Grown => grown.Task;

    /// <summary>The rows of a table, in the order of its key.</summary>
    public IReadOnlyList<Row> RowsOf(TableName table) => [.. rows[table].Values];

    /// <summary>The row of a key; none where it is not there.</summary>
    public Row Find(TableName table, long key) => rows[table].GetValueOrDefault(key);

    /// <summary>Commits changes whose relations are the ordinals of tables.</summary>
    public void Commit(DateTimeOffset at, IReadOnlyList<RowChange> changes)
    {
        lock (Gate)
        {
            foreach (var change in changes)
            {
                Take(rows[tables[change.Relation].Name], change);
            }

            Server.Commit(at, changes);
        }

        Beat();
    }

    /// <summary>Another server takes over, with all that this one has.</summary>
    public void Promote()
    {
        lock (Gate)
        {
            Server = Server.Successor(servers++);
        }

        Beat();
    }

    private static void Take(SortedDictionary<long, Row> rows, RowChange change)
    {
        if (change.Kind == ChangeKind.Truncate)
        {
            rows.Clear();
        }

        if (!change.Before.IsNone)
        {
            rows.Remove(change.Before.IntegerAt(0));
        }

        if (!change.After.IsNone)
        {
            rows.Add(change.After.IntegerAt(0), change.After);
        }
    }

    private void Beat() => Interlocked.Exchange(ref grown, New()).SetResult();

    private static TaskCompletionSource New() => new();
}
