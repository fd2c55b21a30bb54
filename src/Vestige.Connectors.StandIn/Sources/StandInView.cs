using System.Globalization;
using System.Runtime.CompilerServices;
using Microsoft.Data.Sqlite;
using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Sources;

/// <summary>One read transaction of SQLite. Digests are computed from the rows as they stream out of the same process.</summary>
internal sealed class StandInView : IRowsView
{
    private readonly StandInDatabase database;
    private readonly SqliteConnection connection;

    private StandInView(StandInDatabase database)
    {
        this.database = database;
        connection = StandInReads.OpenMoment(database);
    }

    public LogPosition? Position { get; private set; }

    public TargetProgress Progress { get; private set; } = TargetProgress.None;

    public IRowDigests? Digests => null;

    /// <summary>A source's view. To be called while nobody writes.</summary>
    public static StandInView OfSource(StandInDatabase database, int branch) => new(database) { Position = database.Head.On(branch) };

    /// <summary>A target's view, with what it knows of a crossing.</summary>
    public static StandInView OfTarget(StandInDatabase database, string crossing)
    {
        var view = new StandInView(database);
        view.Progress = Targets.ProgressStore.Read(view.connection.Handle!, crossing).Progress;
        view.Position = view.Progress.Position;
        return view;
    }

    public async Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation)
    {
        await database.Drills.PassConnectionAsync(cancellation);
        return StandInReads.Tables(connection.Handle!, database.Name);
    }

    public async Task<IReadOnlyList<Row>> CutAsync(TableSchema table, KeySpan within, int ranges, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(table);
        await database.Drills.PassConnectionAsync(cancellation);
        var keys = Keys(table);
        using var count = Bound(table, $"SELECT count(*) FROM {Quote.Name(table.Name.Name)}", within, "");
        count.Step();
        var step = Math.Max(1, count.Integer(0) / ranges);
        using var scan = Bound(table, $"SELECT {keys} FROM {Quote.Name(table.Name.Name)}", within, $" ORDER BY {keys}");
        var (bounds, writer) = (new List<Row>(), new RowWriter());
        for (long row = 0; bounds.Count < ranges - 1 && scan.Step(); row++)
        {
            if (row > 0 && row % step == 0)
            {
                scan.WriteRow(writer, table.KeyOrdinals.Count);
                bounds.Add(writer.ToRow());
            }
        }

        return bounds;
    }

    public async IAsyncEnumerable<RowBlock> ReadAsync(
        TableSchema table,
        KeySpan within,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        ArgumentNullException.ThrowIfNull(table);
        using var rows = Bound(table, Select(table), within, "");
        await foreach (var block in StandInReads.BlocksAsync(database, rows, table.Columns.Count, cancellation))
        {
            yield return block;
        }
    }

    public async Task<IReadOnlyList<Row>> FindAsync(TableSchema table, IReadOnlyList<Row> keys, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(table);
        ArgumentNullException.ThrowIfNull(keys);
        await database.Drills.PassConnectionAsync(cancellation);
        var where = string.Join(" AND ", table.KeyOrdinals.Select(i => $"{Quote.Name(table.Columns[i].Name)} = ?"));
        using var find = new Statement(connection.Handle!, $"{Select(table)} WHERE {where}", table.Name.ToString());
        var (found, writer) = (new List<Row>(), new RowWriter());
        foreach (var key in keys)
        {
            cancellation.ThrowIfCancellationRequested();
            find.Reset();
            for (var i = 0; i < key.Count; i++)
            {
                find.Bind(i + 1, key, i);
            }

            while (find.Step())
            {
                find.WriteRow(writer, table.Columns.Count);
                found.Add(writer.ToRow());
            }
        }

        return found;
    }

    public async Task<IReadOnlyList<Row>> SampleAsync(TableSchema table, int rows, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(table);
        await database.Drills.PassConnectionAsync(cancellation);
        using var draw = Bound(table, Select(table), KeySpan.All, " ORDER BY random() LIMIT ?");
        draw.Bind(table.Shared is null ? 1 : 2, rows);
        var (found, writer) = (new List<Row>(), new RowWriter());
        while (draw.Step())
        {
            draw.WriteRow(writer, table.Columns.Count);
            found.Add(writer.ToRow());
        }

        return found;
    }

    public ValueTask DisposeAsync()
    {
        connection.Dispose();
        return ValueTask.CompletedTask;
    }

    private static string Keys(TableSchema table) => Quote.Names(table.KeyOrdinals.Select(i => table.Columns[i].Name));

    private static string Select(TableSchema table) =>
        $"SELECT {Quote.Names(table.Columns.Select(column => column.Name))} FROM {Quote.Name(table.Name.Name)}";

    /// <summary>A statement over the rows of a span that are the table's own.</summary>
    private Statement Bound(TableSchema table, string select, KeySpan within, string rest)
    {
        var (keys, marks) = (Keys(table), string.Join(", ", table.KeyOrdinals.Select(_ => "?")));
        var conditions = new List<string>();
        if (table.Shared is { } shared)
        {
            conditions.Add($"{Quote.Name(shared.Column)} = ?");
        }

        if (!within.From.IsNone)
        {
            conditions.Add($"({keys}) >= ({marks})");
        }

        if (!within.Before.IsNone)
        {
            conditions.Add($"({keys}) < ({marks})");
        }

        var statement = new Statement(
            connection.Handle!,
            $"{select}{(conditions.Count > 0 ? $" WHERE {string.Join(" AND ", conditions)}" : "")}{rest}",
            table.Name.ToString()
        );
        var index = 1;
        if (table.Shared is not null)
        {
            statement.Bind(index++, table.Shared.Value);
        }

        foreach (var bound in new[] { within.From, within.Before })
        {
            for (var i = 0; i < bound.Count; i++)
            {
                // Bounds are whole numbers, whichever side wrote them.
                statement.Bind(
                    index++,
                    bound.KindAt(i) == ValueKind.Text
                        ? long.Parse(bound.ValueAt(i), NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture)
                        : bound.IntegerAt(i)
                );
            }
        }

        return statement;
    }
}
