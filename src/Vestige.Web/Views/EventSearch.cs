using System.Globalization;
using Vestige.Engine.Events;
using Vestige.Web.Hosting;

namespace Vestige.Web.Views;

/// <summary>What is typed to find events, and what it comes to.</summary>
public sealed class EventSearch
{
    public string? Crossing { get; set; }

    public string? Text { get; set; }

    /// <summary>As events are shown: note, warning or fault, in whatever case.</summary>
    public string? Kind { get; set; }

    public string? From { get; set; }

    public string? To { get; set; }

    /// <summary>Only those before the event of this number.</summary>
    public long? Before { get; set; }

    /// <summary>Why a time cannot be read; null when all can.</summary>
    public string? Problem =>
        Misread(From, "from")
        ?? Misread(To, "to")
        ?? (
            Blank(Kind) is not null && KindOf is null
                ? $"'{Kind}' in kind is not a kind of event. Write {string.Join(", ", Enum.GetNames<EventKind>()).ToLowerInvariant()}."
                : null
        );

    private EventKind? KindOf =>
        Enum.TryParse<EventKind>(Blank(Kind), ignoreCase: true, out var kind) && Enum.IsDefined(kind) && !char.IsAsciiDigit(Kind!.Trim()[0])
            ? kind
            : null;

    public EventFilter Filter => new(Blank(Crossing), null, Blank(Text), KindOf, TimeOf(From), TimeOf(To));

    /// <summary>The same search as the end of an address, from another event on.</summary>
    public string Query(long? before = null) =>
        string.Join(
            '&',
            new[]
            {
                ("crossing", Crossing),
                ("text", Text),
                ("kind", Kind),
                ("from", From),
                ("to", To),
                ("before", before?.ToString(CultureInfo.InvariantCulture)),
            }
                .Where(pair => !string.IsNullOrEmpty(pair.Item2))
                .Select(pair => $"{pair.Item1}={Uri.EscapeDataString(pair.Item2!)}")
        );

    private static string? Misread(string? text, string name) =>
        string.IsNullOrWhiteSpace(text) || TimeOf(text) is not null
            ? null
            : $"'{text}' in {name} is not a time. Write 2026-11-25 or 2026-11-25 13:00, in UTC.";

    private static DateTimeOffset? TimeOf(string? text) =>
        DateTimeOffset.TryParse(text, CultureInfo.InvariantCulture, DateTimeStyles.AssumeUniversal, out var time) ? time : null;

    private static string? Blank(string? text) => string.IsNullOrWhiteSpace(text) ? null : text.Trim();
}
