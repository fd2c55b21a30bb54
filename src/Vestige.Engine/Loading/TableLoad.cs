using Vestige.Core.Schemas;

namespace Vestige.Engine.Loading;

/// <summary>The load of one table, while it goes on and after. Safe for several threads.</summary>
public sealed class TableLoad(TableSchema table, long estimatedRows, int chunks)
{
    private long rows;
    private int open = chunks;

    public TableSchema Table => table;

    /// <summary>Rows in the snapshot, as estimated or counted there.</summary>
    public long EstimatedRows => estimatedRows;

    /// <summary>Rows written and committed.</summary>
    public long Rows => Interlocked.Read(ref rows);

    /// <summary>All its rows are written.</summary>
    public bool Done => Volatile.Read(ref open) == 0;

    /// <summary>A block was read and is on its way. Called before the end of its chunk is told.</summary>
    internal void Took() => Interlocked.Increment(ref open);

    /// <summary>A block was committed; true when it was the last of the table.</summary>
    internal bool Wrote(long count)
    {
        Interlocked.Add(ref rows, count);
        return Interlocked.Decrement(ref open) == 0;
    }

    /// <summary>A chunk was read to its end; true when all rows of the table are written as well.</summary>
    internal bool EndChunk() => Interlocked.Decrement(ref open) == 0;
}
