using Vestige.Core.Schemas;

namespace Vestige.Engine.Loading;

/// <summary>The load of one table, while it goes on and after.</summary>
public sealed class TableLoad(TableSchema table, long estimatedRows, int chunks)
{
    private long rows;
    private int chunksLeft = chunks;

    public TableSchema Table => table;

    /// <summary>Rows in the snapshot, as estimated or counted there.</summary>
    public long EstimatedRows => estimatedRows;

    /// <summary>Rows written and committed.</summary>
    public long Rows => Interlocked.Read(ref rows);

    public bool Done => Volatile.Read(ref chunksLeft) == 0;

    internal void Wrote(long count) => Interlocked.Add(ref rows, count);

    internal bool EndChunk() => Interlocked.Decrement(ref chunksLeft) == 0;
}
