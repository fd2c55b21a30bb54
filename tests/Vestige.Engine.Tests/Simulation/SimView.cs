using System.Buffers;
using System.Runtime.CompilerServices;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>The rows of a simulated database as of one moment, copied when it is opened.</summary>
public sealed class SimView(
    LogPosition? position,
    TargetProgress progress,
    IReadOnlyDictionary<TableName, IReadOnlyList<Row>> all,
    SimFaults? faults,
    IReadOnlyList<TableSchema>? tables = null
) : IRowsView
{
    public LogPosition? Position => position;

    public TargetProgress Progress => progress;

    public IRowDigests? Digests => null;

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<TableDescription>>([
            .. (tables ?? SimRows.All).Select(table => new TableDescription(
                table,
                all.GetValueOrDefault(table.Name)?.Count ?? 0,
                null,
                null
            )),
        ]);

    public async Task<IReadOnlyList<Row>> CutAsync(TableSchema table, KeySpan within, int ranges, CancellationToken cancellation)
    {
        await (faults?.BeforeAsync("view.cut", cancellation) ?? Task.CompletedTask);
        var keys = Of(table, within).Select(row => row.IntegerAt(0)).Order().ToList();
        return
        [
            .. Enumerable
                .Range(1, ranges - 1)
                .Select(i => i * keys.Count / ranges)
                .Where(i => i > 0 && i < keys.Count)
                .Distinct()
                .Select(i => Key(keys[i])),
        ];
    }

    public async IAsyncEnumerable<RowBlock> ReadAsync(
        TableSchema table,
        KeySpan within,
        [EnumeratorCancellation] CancellationToken cancellation
    )
    {
        await (faults?.BeforeAsync("view.read", cancellation) ?? Task.CompletedTask);
        var block = new ArrayBufferWriter<byte>();
        var count = 0;
        foreach (var row in Of(table, within))
        {
            ChangeWriter.Write(block, ChangeKind.Insert, 0, default, row.Bytes.Span);
            count++;
        }

        yield return new RowBlock(block.WrittenMemory, count);
    }

    public async Task<IReadOnlyList<Row>> FindAsync(TableSchema table, IReadOnlyList<Row> keys, CancellationToken cancellation)
    {
        await (faults?.BeforeAsync("view.find", cancellation) ?? Task.CompletedTask);
        var wanted = keys.ToHashSet();
        return [.. Of(table, KeySpan.All).Where(row => wanted.Contains(KeyOf(table, row)))];
    }

    public Task<IReadOnlyList<Row>> SampleAsync(TableSchema table, int rows, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<Row>>([.. Of(table, KeySpan.All).Take(rows)]);

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    private IEnumerable<Row> Of(TableSchema table, KeySpan within) =>
        (all.GetValueOrDefault(table.Name) ?? [])
            .Where(row => table.Shared is not { } shared || row.TextAt(table.IndexOf(shared.Column)) == shared.Value)
            .Where(row => within.IsAll || within.Contains(KeyOf(table, row)));

    private static Row KeyOf(TableSchema table, Row row) => new RowShape(table, [], table.KeyOrdinals).KeyOf(row);

    private static Row Key(long key)
    {
        var writer = new RowWriter();
        writer.Begin(1);
        writer.Integer(key);
        return writer.ToRow();
    }
}
