using Vestige.Core.Positions;

namespace Vestige.Engine.Spooling;

/// <summary>What a spool must keep: everything after the slowest crossing, and a span before it. Not safe for several threads.</summary>
internal sealed class SpoolRetention(SpoolOptions options)
{
    private readonly Dictionary<string, LogPosition?> retained = [];

    /// <summary>Keeps everything after a position for a crossing; null keeps everything until its position is known.</summary>
    public void Retain(string crossing, LogPosition? position) => retained[crossing] = position;

    public void Release(string crossing) => retained.Remove(crossing);

    /// <summary>After which position everything is kept for a crossing, null for all; false when nothing is.</summary>
    public bool Find(string crossing, out LogPosition? position) => retained.TryGetValue(crossing, out position);

    /// <summary>Whether the oldest file is needed by nobody and lies beyond the span. At the budget the span is given up first.</summary>
    public bool MayDropOldest(IReadOnlyList<SpoolFileEntry> entries, LogPosition last)
    {
        if (entries.Count < 2 || retained.Values.Any(position => position is null))
        {
            return false;
        }

        var needed = retained.Values.Aggregate(last, (least, position) => LogPosition.Min(least, position!.Value));
        var spare = entries.Skip(1).Where(entry => entry.Last <= needed).Sum(entry => entry.File.Bytes);
        var pressed = entries.Sum(entry => entry.File.Bytes) >= options.BudgetBytes;
        return entries[0].Last <= needed && (spare >= options.SpanBytes || pressed);
    }
}
