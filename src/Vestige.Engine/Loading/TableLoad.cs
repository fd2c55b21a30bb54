using Vestige.Core.Loading;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Loading;

/// <summary>The load of one table, while it goes on and after. Safe for several threads.</summary>
/// <param name="table">Its form.</param>
/// <param name="estimatedRows">Rows in the snapshot, as estimated or counted there.</param>
/// <param name="chunks">In how many chunks it is read.</param>
/// <param name="part">What a later load would need to go on; null where it would begin again.</param>
public sealed class TableLoad(TableSchema table, long estimatedRows, int chunks, LoadPart? part = null)
{
    private readonly Lock gate = new();
    private long rows = part?.Rows ?? 0;
    private int open = chunks;
    private LoadPart? part = part;

    public TableSchema Table => table;

    public long EstimatedRows => estimatedRows;

    /// <summary>Rows written and committed, those of an interrupted load before this one among them.</summary>
    public long Rows => Interlocked.Read(ref rows);

    /// <summary>All its rows are written.</summary>
    public bool Done => Volatile.Read(ref open) == 0;

    internal void Wrote(long count) => Interlocked.Add(ref rows, count);

    /// <summary>All rows of one chunk are written; true when it was the last.</summary>
    internal bool EndChunk() => Interlocked.Decrement(ref open) == 0;

    /// <summary>What to remember when a chunk is done; null when there is nothing, for the table begins again or is done as a whole.</summary>
    internal LoadPart? Remember(LoadChunk chunk)
    {
        lock (gate)
        {
            return part is null || Done || chunk.Range.ChangedSince is not null ? null : part = part.With(chunk.Range.Keys, chunk.Rows);
        }
    }
}
