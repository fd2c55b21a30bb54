using System.Buffers;
using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Tests.Conformance;

/// <summary>Made-up rows and transactions for the suites of sinks.</summary>
public static class SinkSamples
{
    public static readonly LogIdentity Log = new("made-up", 1);

    /// <summary>A table <c>item (id, v)</c>, id its key.</summary>
    public static readonly TableSchema Item = new(
        new TableName("made", "item"),
        [new Column("id", "INTEGER", Nullable: false, KeyOrdinal: 1), new Column("v", "TEXT")],
        [],
        []
    );

    public static Row Row(long id, string v)
    {
        var writer = new RowWriter();
        writer.Begin(2);
        writer.Integer(id);
        writer.Text(v);
        return writer.ToRow();
    }

    public static RowBlock Block(params Row[] rows)
    {
        var bytes = new ArrayBufferWriter<byte>();
        foreach (var row in rows)
        {
            ChangeWriter.Write(bytes, new RowChange(ChangeKind.Insert, 0, default, row));
        }

        return new RowBlock(bytes.WrittenMemory, rows.Length);
    }

    public static RowChange Insert(long id, string v) => new(ChangeKind.Insert, 0, default, Row(id, v));

    public static RowChange Update(long id, string before, string after) => new(ChangeKind.Update, 0, Row(id, before), Row(id, after));

    public static RowChange Delete(long id, string v) => new(ChangeKind.Delete, 0, Row(id, v), default);

    public static OrderedTransaction Transaction(ulong position, params RowChange[] changes) =>
        Part(position, isFirst: true, isLast: true, 0, changes);

    /// <summary>A part of a transaction whose first change is its <paramref name="from"/>-th.</summary>
    public static OrderedTransaction Part(ulong position, bool isFirst, bool isLast, int from, params RowChange[] changes) =>
        new(
            Log,
            new LogPosition(position),
            new DateTimeOffset(2026, 3, 1, 8, 0, 0, TimeSpan.Zero),
            null,
            isFirst,
            isLast,
            [.. changes.Select((change, i) => new OrderedChange(from + i, 0, Item.Name, Item, change))]
        );

    public static FoldedTable Folded(params FoldedRow[] rows) => new(Item, EmptiedFirst: false, rows);

    public static TableProgress Begun { get; } = new(Item.Name, Loaded: false, LogPosition.Zero) { Log = Log };

    public static TableProgress At(ulong position) => new(Item.Name, Loaded: true, new LogPosition(position)) { Log = Log };
}
