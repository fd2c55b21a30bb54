using System.Globalization;
using Vestige.Core.Changes;
using Vestige.Core.Loading;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Loading;

/// <summary>Ranges of the blocks of a table's file; a row's place is its ctid (PostgreSQL manual, System Columns).</summary>
internal static class BlockRanges
{
    /// <summary>A range ends before the block that it names; the last is open, for a file that grew meanwhile.</summary>
    public static IReadOnlyList<KeyRange> Cut(long blocks, int chunks)
    {
        var step = Step(blocks, chunks);
        var ranges = new List<KeyRange>();
        for (var from = step; from < blocks; from += step)
        {
            ranges.Add(new KeyRange(ranges.Count == 0 ? default : Block(from - step), Block(from)));
        }

        ranges.Add(new KeyRange(ranges.Count == 0 ? default : ranges[^1].UpTo, default));
        return ranges;
    }

    /// <summary>
    /// Whether going on costs less than to begin again. Rows that are merged cost about three times those that are copied into
    /// an empty table (measured with both servers on two cores; over a slow line it is the reading that counts), so at least
    /// half must be done.
    /// </summary>
    public static bool IsWorthGoingOn(LoadCheckpoint part, long blocks) =>
        part.Done.Sum(range => Math.Min(End(range), blocks) - Math.Min(First(range), blocks)) * 2 >= blocks;

    /// <summary>The finished ranges, of which only what was written since is read, and what lies between them.</summary>
    public static IReadOnlyList<RowRange> Rest(LoadCheckpoint part, long blocks, int chunks)
    {
        var step = Step(blocks, chunks);
        var ranges = new List<RowRange>();
        long read = 0;
        foreach (var done in part.Done.OrderBy(First))
        {
            AddUnread(ranges, read, First(done), step);
            ranges.Add(new RowRange(done, part.Mark));
            read = End(done);
        }

        if (read < long.MaxValue)
        {
            AddUnread(ranges, read, blocks, step);
            ranges.Add(new RowRange(new KeyRange(Block(Math.Max(read, blocks)), default)));
        }

        return ranges;
    }

    /// <summary>
    /// The rows of a range. A row's transaction is told in 32 bits; it is as old as or younger than the mark's when the
    /// difference, taken around the circle of numbers, is not negative (PostgreSQL manual, Preventing Transaction ID Wraparound
    /// Failures).
    /// </summary>
    public static string Condition(RowRange range)
    {
        var conditions = new List<string>();
        if (!range.Keys.After.IsNone)
        {
            conditions.Add($"ctid >= '({range.Keys.After.IntegerAt(0)},0)'::tid");
        }

        if (!range.Keys.UpTo.IsNone)
        {
            conditions.Add($"ctid < '({range.Keys.UpTo.IntegerAt(0)},0)'::tid");
        }

        if (TableStamp.Parse(range.ChangedSince) is { } mark)
        {
            var oldest = (mark.OldestOpen % (1L << 32)).ToString(CultureInfo.InvariantCulture);
            conditions.Add($"(xmin::text::int8 - {oldest} + {1L << 32}) % {1L << 32} < {1L << 31}");
        }

        return conditions.Count == 0 ? "" : $" WHERE {string.Join(" AND ", conditions)}";
    }

    private static void AddUnread(List<RowRange> ranges, long from, long to, long step)
    {
        for (; from < to; from += step)
        {
            ranges.Add(new RowRange(new KeyRange(Block(from), Block(Math.Min(from + step, to)))));
        }
    }

    private static long Step(long blocks, int chunks) => Math.Max(1, (blocks + chunks - 1) / Math.Max(1, chunks));

    private static long First(KeyRange range) => range.After.IsNone ? 0 : range.After.IntegerAt(0);

    private static long End(KeyRange range) => range.UpTo.IsNone ? long.MaxValue : range.UpTo.IntegerAt(0);

    private static Row Block(long number)
    {
        var writer = new RowWriter();
        writer.Begin(1);
        writer.Integer(number);
        return writer.ToRow();
    }
}
