using System.Globalization;
using System.Text.Encodings.Web;
using Microsoft.AspNetCore.Html;
using Vestige.Core.Crossings;
using Vestige.Core.Headlines;
using Vestige.Core.Lag;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Views;

/// <summary>The small drawings that pages share. Widths and places are SVG attributes, as the policy allows no style.</summary>
public static class Draw
{
    /// <summary>The symbol of a state; its word must stand beside it or in its name.</summary>
    public static IHtmlContent State(string word, string? title = null)
    {
        var id = word.Replace(' ', '-');
        var label = title is null ? "aria-hidden=\"true\"" : $"role=\"img\" aria-label=\"{HtmlEncoder.Default.Encode(title)}\"";
        return new HtmlString($"<svg class=\"state {id}\" {label}><use href=\"/img/states.svg#{id}\"/></svg>");
    }

    public static IHtmlContent State(CrossingState state) => State(state.Word(), state.Word());

    /// <summary>The symbol of a headline: words that are states have theirs, all others that of the state that is as bad.</summary>
    public static IHtmlContent State(HeadlineWord word) =>
        State(
            word switch
            {
                HeadlineWord.PlaceLost or HeadlineWord.SourceWritesFail or HeadlineWord.LogAtRisk or HeadlineWord.StorageFull => "faulted",
                HeadlineWord.Quarantine or HeadlineWord.Differs => "held",
                HeadlineWord.Limited or HeadlineWord.Behind => "catching up",
                _ => word.Text(),
            },
            word.Text()
        );

    public static IHtmlContent State(TableState state) => State(state.Word(), state.Word());

    /// <summary>The axis above wakes: ages from the left, now at the right; every second age where there is little room.</summary>
    public static IHtmlContent WakeAxisLabels(bool compact = false)
    {
        var labels = WakeAxis
            .Ticks.Where((_, i) => !compact || i % 2 == 0)
            .Select(tick => $"<text x=\"{X(tick.Age)}\" y=\"13\" text-anchor=\"middle\">{tick.Label}</text>");
        return new HtmlString(
            $"<svg aria-hidden=\"true\">{string.Concat(labels)}<text x=\"{X(TimeSpan.Zero)}\" y=\"13\" "
                + "text-anchor=\"middle\">now</text></svg>"
        );
    }

    /// <summary>
    /// Where the positions of a crossing stand: from the applied point (tall mark) over spooled and captured to the source's
    /// head (dot). Nothing but the head is drawn before there is a place.
    /// </summary>
    /// <param name="status">How it stands.</param>
    /// <param name="now">The moment; the oldest proof of equality is drawn by its age.</param>
    /// <param name="compact">Whether it is 16 high instead of 30.</param>
    /// <param name="marks">Moments to mark, each with its label; null for none. Those older than the axis are left out.</param>
    public static IHtmlContent Wake(
        CrossingStatus status,
        DateTimeOffset now,
        bool compact = false,
        IReadOnlyList<(DateTimeOffset At, string Label)>? marks = null
    )
    {
        ArgumentNullException.ThrowIfNull(status);
        var (height, middle, bar) = compact ? (16, 8, 6) : (30, 15, 8);
        var ticks = string.Concat(
            WakeAxis.Ticks.Select(tick => $"<line class=\"tick\" x1=\"{X(tick.Age)}\" x2=\"{X(tick.Age)}\" y1=\"0\" y2=\"{height}\"/>")
        );
        var body = "";
        if (status.Lag is not null && status.AppliedPosition is not null)
        {
            var (applied, spooled, captured) = (At(status.AppliedAge), At(status.SpooledAge), At(status.CapturedAge));
            body =
                Part("a", applied, spooled)
                + Part("s", spooled, captured)
                + Part("c", captured, At(TimeSpan.Zero))
                + $"<rect class=\"end\" x=\"{Number(applied - 0.7)}%\" y=\"{middle - bar - 1}\" width=\"4\" height=\"{(bar + 1) * 2}\"/>";
        }

        var head = X(TimeSpan.Zero);
        body += string.Concat((marks ?? []).Where(mark => now - mark.At < WakeAxis.Far).Select(Mark));
        if (status.Proved is { } proof && status.Differences == 0)
        {
            var at = At(now - proof.At);
            var half = compact ? 5 : 8;
            body +=
                $"<svg x=\"{Number(at)}%\" y=\"{middle - half}\" overflow=\"visible\"><path class=\"pv\" "
                + $"d=\"M0 0l{half} {2 * half}h-{2 * half}z\"/></svg>";
        }

        var label = status.Lag is { } lag ? (lag.Current ? "current" : $"{Core.Text.Figures.Duration(lag.Behind)} behind") : "no place yet";
        label +=
            status.Proved is { } seen && status.Differences == 0 ? $", proved equal {Core.Text.Figures.Duration(now - seen.At)} ago" : "";
        return new HtmlString(
            $"<svg class=\"wake\" role=\"img\" aria-label=\"{label}\">{ticks}<line class=\"now\" x1=\"{head}\" x2=\"{head}\" y1=\"0\" "
                + $"y2=\"{height}\"/>{body}"
                + $"<circle class=\"hd\" cx=\"{head}\" cy=\"{middle}\" r=\"{Number(compact ? 3.5 : 4.5)}\"/></svg>"
        );

        string Mark((DateTimeOffset At, string Label) mark) =>
            $"<line class=\"mark\" x1=\"{X(now - mark.At)}\" x2=\"{X(now - mark.At)}\" y1=\"0\" y2=\"{height}\"/>"
            + $"<text class=\"mark\" x=\"{X(now - mark.At)}\" dx=\"3\" y=\"11\">{HtmlEncoder.Default.Encode(mark.Label)}</text>";

        string Part(string kind, double from, double to) =>
            to - from < 0.1
                ? ""
                : $"<rect class=\"{kind}\" x=\"{Number(from)}%\" y=\"{middle - (bar / 2)}\" width=\"{Number(to - from)}%\" "
                    + $"height=\"{bar}\"/>";
    }

    /// <summary>The lag of the last hour, the worst of each half minute; its top is the largest.</summary>
    /// <param name="points">Oldest first; those before the hour are left out.</param>
    /// <param name="now">The right edge.</param>
    public static IHtmlContent LagOfHour(IReadOnlyList<MeasurePoint> points, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(points);
        const int Slots = 120;
        var (worst, width) = (new double?[Slots], TimeSpan.FromHours(1) / Slots);
        foreach (var point in points)
        {
            var slot = Slots - 1 - (int)((now - point.At) / width);
            if (slot is >= 0 and < Slots)
            {
                worst[slot] = Math.Max(worst[slot] ?? 0, point.Behind.TotalSeconds);
            }
        }

        var most = worst.Max() ?? 0;
        var bars = string.Concat(
            worst.Select((seconds, slot) => (slot, Height: most > 0 && seconds is { } behind ? 18 * behind / most : 0))
                .Where(bar => bar.Height >= 0.3)
                .Select(bar => $"<rect x=\"{bar.slot}\" y=\"{Number(19 - bar.Height)}\" width=\"1\" height=\"{Number(bar.Height)}\"/>")
        );
        var words =
            points.Count == 0
                ? "no lag measured yet"
                : $"lag, last hour: at most {Core.Text.Figures.Duration(TimeSpan.FromSeconds(most))}";
        return new HtmlString(
            $"<svg class=\"hour\" viewBox=\"0 0 {Slots} 20\" preserveAspectRatio=\"none\" aria-hidden=\"true\">"
                + $"<line x1=\"0\" x2=\"{Slots}\" y1=\"19.500\" y2=\"19.500\"/>{bars}</svg><span class=\"sub\">{words}</span>"
        );
    }

    /// <summary>How many of its tables are in which state, as a strip and in words.</summary>
    public static IHtmlContent TableStates(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        var counts = status.Tables.GroupBy(table => table.Word).OrderByDescending(same => same.Count()).ToList();
        var (strip, x) = ("", 0.0);
        foreach (var same in counts)
        {
            var part = 100.0 * same.Count() / status.Tables.Count;
            var kind = same.Key.Replace(' ', '-');
            strip += $"<rect class=\"{kind}\" x=\"{Number(x)}\" width=\"{Number(Math.Max(0.5, part - 0.5))}\" height=\"8\"/>";
            x += part;
        }

        var words = counts.Count == 0 ? "no tables yet" : string.Join(", ", counts.Select(same => $"{same.Count()} {same.Key}"));
        return new HtmlString(
            "<svg class=\"tables\" viewBox=\"0 0 100 8\" preserveAspectRatio=\"none\" aria-hidden=\"true\">"
                + $"{strip}</svg><span class=\"sub\">tables: {words}</span>"
        );
    }

    /// <summary>How full something is, 0 to 1.</summary>
    public static IHtmlContent Bar(double share, bool warn, string label)
    {
        var width = Math.Clamp(share, 0, 1) * 100;
        return new HtmlString(
            "<svg class=\"bar\" viewBox=\"0 0 100 8\" preserveAspectRatio=\"none\" role=\"img\" "
                + $"aria-label=\"{HtmlEncoder.Default.Encode(label)}\">"
                + $"<rect class=\"bg\" width=\"100\" height=\"8\"/><rect class=\"{(warn ? "warn" : "fg")}\" width=\"{Number(width)}\" "
                + "height=\"8\"/></svg>"
        );
    }

    /// <summary>The marks of a table's changes, each with its number under a bar scaled beside the table with most.</summary>
    public static IHtmlContent Strip(TableTally tally, long most)
    {
        ArgumentNullException.ThrowIfNull(tally);
        var parts = new (string Mark, long Count, string Name)[]
        {
            ("+", tally.Inserts, "inserts"),
            ("~", tally.Updates, "updates"),
            ("−", tally.Deletes, "deletes"),
            ("Δ", tally.SchemaChanges, "schema changes"),
            ("∅", tally.Truncates, "truncates"),
        };
        var drawn = string.Concat(
            parts
                .Where(part => part.Count > 0)
                .Select(part =>
                {
                    var width = Number(Math.Max(2, 44 * Math.Log(1 + part.Count) / Math.Log(2 + most)));
                    return $"<span title=\"{part.Name}\">{part.Mark}\u202F{Core.Text.Figures.Count(part.Count)}"
                        + $"<svg width=\"44\" height=\"3\" aria-hidden=\"true\"><rect width=\"{width}\" height=\"3\"/></svg></span>";
                })
        );
        return new HtmlString($"<span class=\"strip\">{(drawn.Length > 0 ? drawn : "no changes yet")}</span>");
    }

    internal static string Number(double value) => value.ToString("0.##", CultureInfo.InvariantCulture);

    private static string X(TimeSpan age) => Number(At(age)) + "%";

    /// <summary>Where an age stands, in percent of the width; the margins leave room for the marks.</summary>
    private static double At(TimeSpan age) => 3 + (WakeAxis.Place(age) * 94);
}
