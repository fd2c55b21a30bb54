using Vestige.Core.Alerts;

namespace Vestige.Engine.Alerting;

/// <summary>Something that needed someone, from when it was raised until it was over. Immutable.</summary>
/// <param name="Number">Unique, ascending.</param>
/// <param name="Need">What it is, as last seen.</param>
/// <param name="Since">Since when it holds.</param>
/// <param name="RaisedAt">When it was raised.</param>
/// <param name="OverAt">When it was over; null while it stands.</param>
/// <param name="AcknowledgedBy">Who has seen it; null when nobody has said so.</param>
/// <param name="Note">What they said.</param>
/// <param name="AcknowledgedAt">When.</param>
/// <param name="Reported">The channels that were told that it was raised.</param>
public sealed record Alert(
    long Number,
    Need Need,
    DateTimeOffset Since,
    DateTimeOffset RaisedAt,
    DateTimeOffset? OverAt = null,
    string? AcknowledgedBy = null,
    string? Note = null,
    DateTimeOffset? AcknowledgedAt = null,
    IReadOnlyList<string>? Reported = null
)
{
    public bool Acknowledged => AcknowledgedBy is not null;

    public IReadOnlyList<string> ToldTo => Reported ?? [];
}
