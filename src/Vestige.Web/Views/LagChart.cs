using System.Globalization;
using System.Text;
using System.Text.Encodings.Web;
using Microsoft.AspNetCore.Html;
using Vestige.Engine.Measuring;
using static Vestige.Web.Views.Draw;

namespace Vestige.Web.Views;

/// <summary>
/// Seconds behind over time, stacked by where the time goes; and rates as a line. What is measured is stretched to the width of the
/// page; letters are not.
/// </summary>
public static class LagChart
{
    private const int Width = 900;
    private const int Height = 190;
    private const int Top = 10;
    private const int Bottom = 24;
    private const int Columns = 300;
    private const int Parts = 3;

    /// <summary>Draws the points of a window that ends at <paramref name="now"/>; of several in one column the worst is shown.</summary>
    /// <param name="points">The points.</param>
    /// <param name="now">The right edge.</param>
    /// <param name="window">From the left edge to the right.</param>
    /// <param name="earlier">
    /// Points of a window of the same length that ended <paramref name="ago"/>, drawn as a line; null for none.
    /// </param>
    /// <param name="ago">How much earlier.</param>
    /// <param name="marks">Things that happened, each with its words.</param>
    public static IHtmlContent Of(
        IReadOnlyList<MeasurePoint> points,
        DateTimeOffset now,
        TimeSpan window,
        IReadOnlyList<MeasurePoint>? earlier = null,
        TimeSpan ago = default,
        IReadOnlyList<(DateTimeOffset At, string Words, bool IsTrouble)>? marks = null
    )
    {
        var columns = Worst(points, now, window);
        var before = Worst([.. (earlier ?? []).Select(point => point with { At = point.At + ago })], now, window);
        var most = Nice(columns.Concat(before).Select(column => column.Point.Behind.TotalSeconds).DefaultIfEmpty().Max());
        var svg = new StringBuilder();
        var worst = TimeSpan.FromSeconds(columns.Count == 0 ? 0 : columns.Max(column => column.Point.Behind.TotalSeconds));
        svg.Append(
            $"<svg class=\"chart lag\" role=\"img\" aria-label=\"Seconds behind, at most {Core.Text.Figures.Duration(worst)}\">"
                + $"<svg viewBox=\"0 0 {Width} {Height}\" preserveAspectRatio=\"none\" width=\"100%\" height=\"{Height}\">"
        );
        for (var i = 0; i <= Parts; i++)
        {
            var y = Number(Y(most * i / Parts, most));
            svg.Append($"<line class=\"grid\" x1=\"0\" x2=\"{Width}\" y1=\"{y}\" y2=\"{y}\"/>");
        }

        Area(svg, columns, most, "c", _ => 0, point => point.NotCaptured.TotalSeconds);
        Area(
            svg,
            columns,
            most,
            "s",
            point => point.NotCaptured.TotalSeconds,
            point => (point.NotCaptured + point.NotSpooled).TotalSeconds
        );
        Area(
            svg,
            columns,
            most,
            "a",
            point => (point.NotCaptured + point.NotSpooled).TotalSeconds,
            point => (point.NotCaptured + point.NotSpooled + point.NotApplied).TotalSeconds
        );
        if (before.Count > 1)
        {
            var line = before.Select(column => $"{Number(column.X)},{Number(Y(column.Point.Behind.TotalSeconds, most))}");
            svg.Append($"<path class=\"ago\" d=\"M{string.Join(" L", line)}\"/>");
        }

        foreach (var (at, words, isTrouble) in marks ?? [])
        {
            var x = Number(Width * (1 - ((now - at) / window)));
            svg.Append(
                $"<line class=\"mark{(isTrouble ? " trouble" : "")}\" x1=\"{x}\" x2=\"{x}\" y1=\"{Top}\" "
                    + $"y2=\"{Height - Bottom}\"><title>{HtmlEncoder.Default.Encode(words)}</title></line>"
            );
        }

        svg.Append("</svg>");
        Letters(svg, most, now, window);
        svg.Append("</svg>");
        return new HtmlString(svg.ToString());
    }

    /// <summary>What the lines of the grid mean, and the times below.</summary>
    private static void Letters(StringBuilder svg, double most, DateTimeOffset now, TimeSpan window)
    {
        for (var i = 1; i <= Parts; i++)
        {
            svg.Append($"<text x=\"4\" y=\"{Number(Y(most * i / Parts, most) + 12)}\">");
            svg.Append($"{Core.Text.Figures.Duration(TimeSpan.FromSeconds(most * i / Parts))}</text>");
        }

        var times =
            window >= TimeSpan.FromDays(2) ? "MM-dd HH:mm"
            : window > TimeSpan.FromHours(2) ? "HH:mm"
            : "HH:mm:ss";
        for (var i = 0; i <= Parts; i++)
        {
            var at = (now - window + (window * i / Parts)).UtcDateTime;
            var anchor =
                i == 0 ? "start"
                : i == Parts ? "end"
                : "middle";
            svg.Append(
                $"<text x=\"{Number(100.0 * i / Parts)}%\" y=\"{Height - 6}\" "
                    + $"text-anchor=\"{anchor}\">{at.ToString(times, CultureInfo.InvariantCulture)}</text>"
            );
        }
    }

    /// <summary>A line of changes a second, without axes, for small places.</summary>
    public static IHtmlContent Rates(IReadOnlyList<double> rates)
    {
        ArgumentNullException.ThrowIfNull(rates);
        if (rates.Count < 2)
        {
            return new HtmlString("<p class=\"quiet\">Nothing measured yet.</p>");
        }

        var most = Math.Max(1, rates.Max());
        var points = rates.Select((rate, i) => $"{Number(290.0 * i / (rates.Count - 1))},{Number(62 - (54 * rate / most))}").ToList();
        return new HtmlString(
            "<svg class=\"chart\" viewBox=\"0 0 290 66\" preserveAspectRatio=\"none\" role=\"img\" aria-label=\"At most "
                + $"{Core.Text.Figures.Rate(most)} changes a second\">"
                + $"<path class=\"area\" d=\"M0,64 L{string.Join(" L", points)} L290,64 Z\"/><path class=\"line\" "
                + $"d=\"M{string.Join(" L", points)}\"/></svg>"
        );
    }

    private static List<(double X, MeasurePoint Point)> Worst(IReadOnlyList<MeasurePoint> points, DateTimeOffset now, TimeSpan window)
    {
        var start = now - window;
        return
        [
            .. points
                .Where(point => point.At > start && point.At <= now)
                .GroupBy(point => (int)((point.At - start) / window * Columns))
                .OrderBy(column => column.Key)
                .Select(column => (Width * (double)column.Key / Columns, column.MaxBy(point => point.Behind))),
        ];
    }

    private static void Area(
        StringBuilder svg,
        List<(double X, MeasurePoint Point)> columns,
        double most,
        string kind,
        Func<MeasurePoint, double> low,
        Func<MeasurePoint, double> high
    )
    {
        if (columns.Count < 2 || columns.TrueForAll(column => high(column.Point) - low(column.Point) <= 0))
        {
            return;
        }

        var up = columns.Select(column => $"{Number(column.X)},{Number(Y(high(column.Point), most))}");
        var down = Enumerable.Reverse(columns).Select(column => $"{Number(column.X)},{Number(Y(low(column.Point), most))}");
        svg.Append($"<path class=\"{kind}\" d=\"M{string.Join(" L", up)} L{string.Join(" L", down)} Z\"/>");
    }

    private static double Y(double seconds, double most) => Top + ((Height - Top - Bottom) * (1 - (seconds / most)));

    /// <summary>A top of the axis at which a third is a round figure.</summary>
    private static double Nice(double seconds)
    {
        double[] tops = [0.3, 0.9, 1.5, 3, 6, 15, 30, 60, 90, 180, 360, 900, 1800, 3600, 10800, 21600, 43200, 86400];
        return Array.Find(tops, top => top >= seconds) is var found and > 0 ? found : Math.Ceiling(seconds / 259200) * 259200;
    }
}
