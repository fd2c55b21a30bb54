using Vestige.Core.Reconciling;

namespace Vestige.Engine.Reconciling;

/// <summary>How segments are told to a person.</summary>
internal static class SegmentReport
{
    /// <summary>The most segments of a table that are listed.</summary>
    public const int Most = 1024;

    /// <summary>Of more segments than are told, neighbours are told as one.</summary>
    public static IReadOnlyList<SegmentFinding> Together(List<SegmentFinding> parts, int most)
    {
        var together = AsOne(parts.Count, most);
        return together <= 1
            ? parts
            :
            [
                .. parts
                    .Chunk(together)
                    .Select(some =>
                        some[0] with
                        {
                            Before = some[^1].Before,
                            Rows = some.Sum(part => part.Rows),
                            State = some.Max(part => part.State),
                            InFlight = some.Sum(part => part.InFlight),
                        }
                    ),
            ];
    }

    /// <summary>Where a segment stands among those that are told.</summary>
    public static int PlaceOf(int segment, int segments, int most) => segment / AsOne(segments, most);

    private static int AsOne(int segments, int most) => (segments + most - 1) / most;

    /// <summary>The bound of a range, as a person reads it.</summary>
    public static string? Bound(Segments segments, int segment, KeySpan within, bool first)
    {
        if (segments.AreByHash)
        {
            return null;
        }

        var span = segments.SpanOf(segment, within);
        var key = first ? span.From : span.Before;
        return key.IsNone ? null : IntegerKeys.Display(key);
    }
}
