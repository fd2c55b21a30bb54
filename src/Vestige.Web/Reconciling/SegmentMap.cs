using System.Text.Encodings.Web;
using Microsoft.AspNetCore.Html;
using Vestige.Core.Text;
using Vestige.Engine.Reconciling;

namespace Vestige.Web.Reconciling;

/// <summary>
/// The segments of a table drawn as a band of cells in the order of the keys, in rows of equal length. Each state has its own shape.
/// </summary>
public static class SegmentMap
{
    private const int Across = 64;
    private const int Cell = 12;

    /// <param name="table">What was found of the table.</param>
    /// <param name="address">Where rows of it are shown; the place of a segment is added to it.</param>
    /// <param name="chosen">The place of the segment whose rows are shown; null for none.</param>
    public static IHtmlContent Draw(TableFinding table, string address, int? chosen)
    {
        ArgumentNullException.ThrowIfNull(table);
        var rows = (table.Segments.Count + Across - 1) / Across;
        var listed = table.Rows.Select(row => row.Segment).ToHashSet();
        var cells = table.Segments.Select(
            (segment, i) =>
            {
                var cell = Of(segment, i % Across * Cell, i / Across * Cell, table.ByHash, i == chosen);
                return listed.Contains(i)
                    ? $"<a href=\"{HtmlEncoder.Default.Encode(FormattableString.Invariant($"{address}&segment={i}#rows"))}\">{cell}</a>"
                    : cell;
            }
        );
        var differing = table.Segments.Count(segment => segment.State is SegmentState.Differing or SegmentState.NotListed);
        var label = $"{Figures.Of(table.Segments.Count, "segment")}, {Figures.Count(differing)} with rows that differ";
        var width = Math.Min(table.Segments.Count, Across) * Cell;
        return new HtmlString(
            $"<svg class=\"segments\" viewBox=\"0 0 {width} {rows * Cell}\" width=\"{width}\" height=\"{rows * Cell}\" role=\"group\" "
                + $"aria-label=\"{label}\">{string.Concat(cells)}</svg>"
        );
    }

    /// <summary>Which keys a segment has, in words.</summary>
    public static string Where(SegmentFinding segment, bool byHash)
    {
        ArgumentNullException.ThrowIfNull(segment);
        return byHash
            ? "keys by hash"
            : (segment.From is null ? "from the first" : $"from {segment.From}")
                + (segment.Before is null ? " on" : $" to before {segment.Before}");
    }

    private static string Of(SegmentFinding segment, int x, int y, bool byHash, bool chosen)
    {
        var (kind, word) = segment.State switch
        {
            SegmentState.Equal => ("equal", "equal"),
            SegmentState.Differing => ("differing", "rows differ"),
            SegmentState.NotListed => ("unlisted", "rows differ, not listed"),
            _ => ("open", "not yet compared"),
        };
        var title = HtmlEncoder.Default.Encode(
            $"{Where(segment, byHash)}: {(segment.State == SegmentState.Open ? "about " : "")}{Figures.Of(segment.Rows, "row")}, "
                + $"{word}{(segment.InFlight > 0 ? $", {Figures.Count(segment.InFlight)} in flight" : "")}"
        );
        var shape = segment.State switch
        {
            SegmentState.Differing => FormattableString.Invariant(
                $"<path class=\"differing\" d=\"M{x + 5.5} {y}l5.5 5.5-5.5 5.5-5.5-5.5z\"/>"
            ),
            SegmentState.NotListed => FormattableString.Invariant(
                $"<path class=\"unlisted\" d=\"M{x + 5.5} {y + 0.8}l4.7 4.7-4.7 4.7-4.7-4.7z\"/>"
            ),
            _ => $"<rect class=\"{kind}\" x=\"{x}\" y=\"{y}\" width=\"11\" height=\"11\"/>",
        };
        var dot =
            segment.InFlight > 0
                ? FormattableString.Invariant($"<circle class=\"flight\" cx=\"{x + 5.5}\" cy=\"{y + 5.5}\" r=\"2\"/>")
                : "";
        var frame = chosen
            ? FormattableString.Invariant($"<rect class=\"chosen\" x=\"{x - 1.5}\" y=\"{y - 1.5}\" width=\"14\" height=\"14\"/>")
            : "";
        return $"<g>{shape}{dot}{frame}<title>{title}</title></g>";
    }
}
