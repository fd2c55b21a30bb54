using Vestige.Core.Reconciling;

namespace Vestige.Engine.Reconciling;

/// <summary>How segments are told to a person.</summary>
internal static class SegmentTelling
{
    private const int MostShown = 1024;

    /// <summary>Of very many segments, neighbours are told as one.</summary>
    public static IReadOnlyList<SegmentFinding> Together(List<SegmentFinding> parts)
    {
        var together = (parts.Count + MostShown - 1) / MostShown;
        return together <= 1 ? parts : [.. parts.Chunk(together).Select(some => some[0] with
        {
            Before = some[^1].Before,
            Rows = some.Sum(part => part.Rows),
            State = some.Max(part => part.State),
            InFlight = some.Sum(part => part.InFlight),
        })];
    }

    /// <summary>The bound of a range, as a person reads it.</summary>
    public static string? Bound(Segments segments, int segment, KeySpan within, bool first)
    {
        if (segments.AreByHash)
        {
            return null;
        }

        var span = segments.SpanOf(segment, within);
        var key = first ? span.From : span.Before;
        return key.IsNone ? null : WholeKeys.Display(key);
    }
}
