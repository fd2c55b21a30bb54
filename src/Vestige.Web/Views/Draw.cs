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

    /// <summary>The axis above wakes: ages from the left, now at the right.</summary>
    public static IHtmlContent WakeAxisLabels()
    {
        var labels = WakeAxis.Ticks.Select(tick => $"<text x=\"{X(tick.Age)}\" y=\"13\" text-anchor=\"middle\">{tick.Label}</text>");
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
    public static IHtmlContent Wake(CrossingStatus status, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(status);
        var ticks = string.Concat(
            WakeAxis.Ticks.Select(tick => $"<line class=\"tick\" x1=\"{X(tick.Age)}\" x2=\"{X(tick.Age)}\" y1=\"0\" y2=\"30\"/>")
        );
        var body = "";
        if (status.Lag is not null && status.AppliedPosition is not null)
        {
            var (applied, spooled, captured) = (At(status.AppliedAge), At(status.SpooledAge), At(status.CapturedAge));
            body =
                Bar("a", applied, spooled)
                + Bar("s", spooled, captured)
                + Bar("c", captured, At(TimeSpan.Zero))
                + $"<rect class=\"end\" x=\"{Number(applied - 0.7)}%\" y=\"6\" width=\"4\" height=\"18\"/>";
        }

        var head = X(TimeSpan.Zero);
        if (status.Proved is { } proof && status.Differences == 0)
        {
            var at = At(now - proof.At);
            body += $"<svg x=\"{Number(at)}%\" y=\"7\" overflow=\"visible\"><path class=\"pv\" d=\"M0 0l8 15h-16z\"/></svg>";
        }

        var label = status.Lag is { } lag ? (lag.Current ? "current" : $"{Core.Text.Figures.Duration(lag.Behind)} behind") : "no place yet";
        label +=
            status.Proved is { } seen && status.Differences == 0 ? $", proved equal {Core.Text.Figures.Duration(now - seen.At)} ago" : "";
        return new HtmlString(
            $"<svg class=\"wake\" role=\"img\" aria-label=\"{label}\">{ticks}<line class=\"now\" x1=\"{head}\" x2=\"{head}\" y1=\"0\" "
                + $"y2=\"30\"/>{body}"
                + $"<circle class=\"hd\" cx=\"{head}\" cy=\"15\" r=\"4.5\"/></svg>"
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

    /// <summary>The marks of a table's changes, each with a bar scaled by how many there were beside the table with most.</summary>
    public static IHtmlContent Strip(TableTally tally, long most)
    {
        ArgumentNullException.ThrowIfNull(tally);
        var parts = new (string Mark, long Count)[]
        {
            ("+", tally.Inserts),
            ("~", tally.Updates),
            ("−", tally.Deletes),
            ("Δ", tally.SchemaChanges),
            ("∅", tally.Truncates),
        };
        var x = 0;
        var drawn = "";
        foreach (var (mark, count) in parts)
        {
            var width = count == 0 ? 0 : Math.Max(2, 26 * Math.Log(1 + count) / Math.Log(2 + most));
            drawn +=
                $"<text x=\"{x}\" y=\"12\">{mark}</text>"
                + (count > 0 ? $"<rect x=\"{x + 11}\" y=\"4\" width=\"{Number(width)}\" height=\"8\"/>" : "");
            x += 43;
        }

        var words = string.Join(", ", parts.Where(part => part.Count > 0).Select(part => $"{part.Mark} {part.Count}"));
        return new HtmlString(
            "<svg class=\"strip\" width=\"215\" height=\"16\" role=\"img\" "
                + $"aria-label=\"{(words.Length > 0 ? words : "no changes yet")}\"><title>{words}</title>{drawn}</svg>"
        );
    }

    internal static string Number(double value) => value.ToString("0.##", CultureInfo.InvariantCulture);

    private static string Bar(string kind, double from, double to) =>
        to - from < 0.1 ? "" : $"<rect class=\"{kind}\" x=\"{Number(from)}%\" y=\"11\" width=\"{Number(to - from)}%\" height=\"8\"/>";

    private static string X(TimeSpan age) => Number(At(age)) + "%";

    /// <summary>Where an age stands, in percent of the width; the margins leave room for the marks.</summary>
    private static double At(TimeSpan age) => 3 + (WakeAxis.Place(age) * 94);
}
