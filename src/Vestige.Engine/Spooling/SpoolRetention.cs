using Vestige.Core.Positions;

namespace Vestige.Engine.Spooling;

/// <summary>
/// What a spool must keep: everything after the slowest crossing, and a span before it; and as long as there is room, what held tables
/// need to continue. Not safe for several threads.
/// </summary>
internal sealed class SpoolRetention(SpoolOptions options)
{
    private readonly Dictionary<string, LogPosition?> retained = [];
    private readonly Dictionary<string, LogPosition> wanted = [];

    /// <summary>Keeps everything after a position for a crossing; null keeps everything until its position is known.</summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="position">The position.</param>
    /// <param name="wish">After where it is wanted besides, as long as there is room; null where it is not.</param>
    public void Retain(string crossing, LogPosition? position, LogPosition? wish)
    {
        retained[crossing] = position;
        wanted.Remove(crossing);
        if (wish is { } after)
        {
            wanted.Add(crossing, after);
        }
    }

    public void Release(string crossing)
    {
        retained.Remove(crossing);
        wanted.Remove(crossing);
    }

    /// <summary>After which position everything is kept for a crossing, null for all; false when nothing is.</summary>
    public bool Find(string crossing, out LogPosition? position) => retained.TryGetValue(crossing, out position);

    /// <summary>
    /// Whether the oldest file is needed by nobody and lies beyond the span. At the budget the span and what is wanted are given up first.
    /// </summary>
    public bool MayDropOldest(IReadOnlyList<SpoolFileEntry> entries, LogPosition last)
    {
        if (entries.Count < 2 || retained.Values.Any(position => position is null))
        {
            return false;
        }

        var needed = retained.Values.Aggregate(last, (least, position) => LogPosition.Min(least, position!.Value));
        var spare = entries.Skip(1).Where(entry => entry.Last <= needed).Sum(entry => entry.File.Bytes);
        var pressed = entries.Sum(entry => entry.File.Bytes) >= options.BudgetBytes;
        var wish = wanted.Values.Aggregate(needed, LogPosition.Min);
        return entries[0].Last <= needed && (pressed || (entries[0].Last <= wish && spare >= options.SpanBytes));
    }
}
