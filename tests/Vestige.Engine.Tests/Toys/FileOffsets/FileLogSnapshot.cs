using System.Buffers;
using System.Runtime.CompilerServices;
using Vestige.Core.Changes;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Toys.FileOffsets;

/// <summary>All rows as of the head of the log, copied. A load of them begins again where it was interrupted.</summary>
public sealed class FileLogSnapshot(FileLogDatabase database, LogPosition position, DateTimeOffset takenAt) : ISourceSnapshot
{
    private const int BlockRows = 100;
    private readonly Dictionary<TableName, IReadOnlyList<Row>> rows = database.Tables.ToDictionary(
        table => table.Name,
        table => database.RowsOf(table.Name)
    );

    public LogPosition Position => position;

    public DateTimeOffset TakenAt => takenAt;

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<TableDescription>>([
            .. database.Tables.Select(table => new TableDescription(table, rows[table.Name].Count, null, null)),
        ]);

    public Task<IReadOnlyList<KeyRange>> CutAsync(TableSchema table, int chunks, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<KeyRange>>([default]);

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
        await Task.Yield();
        foreach (var some in rows[table.Name].Chunk(BlockRows))
        {
            cancellation.ThrowIfCancellationRequested();
            var bytes = new ArrayBufferWriter<byte>();
            foreach (var row in some)
            {
                ChangeWriter.Write(bytes, new RowChange(ChangeKind.Insert, 0, default, row));
            }

            yield return new RowBlock(bytes.WrittenMemory, some.Length);
        }
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;
}
