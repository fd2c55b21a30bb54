using Vestige.Engine.Ports;

namespace Vestige.Engine.Loading;

/// <summary>A part of a table's rows that is read in one go. Safe for several threads.</summary>
/// <param name="load">The load of its table.</param>
/// <param name="range">Which rows.</param>
/// <param name="cost">About how many rows, at least 1.</param>
/// <param name="merges">Whether some of the rows may be on the target already, from an earlier snapshot.</param>
internal sealed class LoadChunk(TableLoad load, RowRange range, double cost, bool merges)
{
    private int open = 1;
    private long rows;

    public TableLoad Load => load;

    public RowRange Range => range;

    public double Cost => cost;

    public bool Merges => merges;

    /// <summary>Rows done with: written and committed, or left out.</summary>
    public long Rows => Interlocked.Read(ref rows);

    /// <summary>A block was read and is on its way. Called before the end of the chunk is told.</summary>
    public void Took() => Interlocked.Increment(ref open);

    /// <summary>A block was committed; true when it was the last of the chunk.</summary>
    public bool Wrote(long count)
    {
        Interlocked.Add(ref rows, count);
        load.Wrote(count);
        return Interlocked.Decrement(ref open) == 0;
    }

    /// <summary>Rows that do not cross.</summary>
    public void LeftOut(long count)
    {
        Interlocked.Add(ref rows, count);
        load.LeftOut(count);
    }

    /// <summary>It was read to its end; true when all its rows are written as well.</summary>
    public bool EndReading() => Interlocked.Decrement(ref open) == 0;
}
