using Vestige.Engine.Events;

namespace Vestige.Web.Hosting;

/// <summary>Which of the stored events are wanted; null of everything for all.</summary>
/// <param name="Crossing">Of this crossing only.</param>
/// <param name="Connection">Of this connection only.</param>
/// <param name="Text">Those whose words hold this, whatever the case of its letters A to Z; a table's name, for example.</param>
/// <param name="Kind">Of this kind only.</param>
/// <param name="From">Not before.</param>
/// <param name="To">Before.</param>
public sealed record EventFilter(
    string? Crossing = null,
    string? Connection = null,
    string? Text = null,
    EventKind? Kind = null,
    DateTimeOffset? From = null,
    DateTimeOffset? To = null
);
