using System.Collections.Concurrent;
using System.Runtime.CompilerServices;
using Microsoft.Data.Sqlite;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Changes;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Sources;

/// <summary>Several read transactions of SQLite, begun while the door was closed, so that all see the same state.</summary>
internal sealed class StandInSnapshot : ISourceSnapshot
{
    private readonly StandInDatabase database;
    private readonly List<SqliteConnection> all = [];
    private readonly ConcurrentBag<SqliteConnection> free = [];

    private StandInSnapshot(StandInDatabase database, LogPosition position, DateTimeOffset takenAt)
    {
        this.database = database;
        Position = position;
        TakenAt = takenAt;
    }

    public LogPosition Position { get; }

    public DateTimeOffset TakenAt { get; }

    /// <summary>To be called while nobody writes.</summary>
    public static StandInSnapshot Open(StandInDatabase database, int readers, int branch, TimeProvider clock)
    {
        var snapshot = new StandInSnapshot(database, database.Head.On(branch), clock.GetUtcNow());
        for (var i = 0; i < readers; i++)
        {
            var connection = StandInReads.OpenMoment(database);
            snapshot.all.Add(connection);
            snapshot.free.Add(connection);
        }

        return snapshot;
    }

    public async Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation)
    {
        await database.Drills.PassConnectionAsync(cancellation);
        return Use(connection => StandInReads.Tables(connection.Handle!, database.Name));
    }

    public async Task<IReadOnlyList<KeyRange>> CutAsync(TableSchema table, int chunks, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(table);
        await database.Drills.PassConnectionAsync(cancellation);
        return Use(connection =>
        {
            var rows = chunks > 1 ? StandInReads.Count(connection.Handle!, table.Name, null) : 0;
            var step = rows / chunks;
            var bounds = step > 0 ? Bounds(connection, table, step, chunks) : [];
            var ranges = new List<KeyRange>();
            var after = default(Row);
            foreach (var bound in bounds)
            {
                ranges.Add(new KeyRange(after, bound));
                after = bound;
            }

            ranges.Add(new KeyRange(after, default));
            return ranges;
        });
    }

    /// <summary>A file does not tell which rows were written since; an interrupted load of a table begins again.</summary>
    public Task<string?> MarkAsync(TableSchema table, CancellationToken cancellation) => Task.FromResult<string?>(null);

    public Task<IReadOnlyList<RowRange>?> CutRestAsync(
        TableSchema table,
        LoadCheckpoint part,
        int chunks,
        CancellationToken cancellation
    ) => Task.FromResult<IReadOnlyList<RowRange>?>(null);

    public async IAsyncEnumerable<RowBlock> ReadAsync(
        TableSchema table,
        RowRange range,
        IReadOnlySet<string> taken,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(table);
        var connection = Take();
        try
        {
            using var rows = Select(connection, table, range.Keys);
            await foreach (var block in StandInReads.BlocksAsync(database, rows, table.Columns.Count, cancellation))
            {
                yield return block;
            }
        }
        finally
        {
            free.Add(connection);
        }
    }

    public ValueTask DisposeAsync()
    {
        all.ForEach(connection => connection.Dispose());
        return ValueTask.CompletedTask;
    }

    private static List<Row> Bounds(SqliteConnection connection, TableSchema table, long step, int chunks)
    {
        var keys = table.KeyOrdinals.Select(i => table.Columns[i].Name).ToList();
        using var scan = new Statement(
            connection.Handle!,
            $"SELECT {Quote.Names(keys)} FROM {Quote.Name(table.Name.Name)} ORDER BY {Quote.Names(keys)}",
            table.Name.ToString()
        );
        var bounds = new List<Row>();
        var writer = new RowWriter();
        for (long row = 1; bounds.Count < chunks - 1 && scan.Step(); row++)
        {
            if (row % step == 0)
            {
                scan.WriteRow(writer, keys.Count);
                bounds.Add(writer.ToRow());
            }
        }

        return bounds;
    }

    private static Statement Select(SqliteConnection connection, TableSchema table, KeyRange range)
    {
        var keys = table.KeyOrdinals.Select(i => table.Columns[i].Name).ToList();
        var marks = string.Join(", ", keys.Select(_ => "?"));
        var conditions = new List<string>();
        if (!range.After.IsNone)
        {
            conditions.Add($"({Quote.Names(keys)}) > ({marks})");
        }

        if (!range.UpTo.IsNone)
        {
            conditions.Add($"({Quote.Names(keys)}) <= ({marks})");
        }

        var where = conditions.Count > 0 ? $" WHERE {string.Join(" AND ", conditions)}" : "";
        var select = new Statement(
            connection.Handle!,
            $"SELECT {Quote.Names(table.Columns.Select(column => column.Name))} FROM {Quote.Name(table.Name.Name)}{where} ORDER BY "
                + $"{Quote.Names(keys)}",
            table.Name.ToString()
        );
        var index = 1;
        foreach (var bound in new[] { range.After, range.UpTo })
        {
            for (var i = 0; i < bound.Count; i++)
            {
                select.Bind(index++, bound, i);
            }
        }

        return select;
    }

    private T Use<T>(Func<SqliteConnection, T> read)
    {
        var connection = Take();
        try
        {
            return read(connection);
        }
        finally
        {
            free.Add(connection);
        }
    }

    private SqliteConnection Take() =>
        free.TryTake(out var connection)
            ? connection
            : throw new InvalidOperationException("More reads at once than the snapshot was opened for.");
}
