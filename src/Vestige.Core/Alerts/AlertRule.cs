using System.Text.Json.Serialization;

namespace Vestige.Core.Alerts;

/// <summary>When something is told and to whom. The last rule of a kind that matches a crossing decides.</summary>
/// <param name="Kind">What it is about.</param>
/// <param name="Crossings">A pattern over names of crossings.</param>
/// <param name="LimitSeconds">For <see cref="NeedKind.Lag"/>: seconds behind; over below four fifths of it.</param>
/// <param name="ForSeconds">How long it must hold before it is raised.</param>
/// <param name="OverAfterSeconds">How long it must be gone before it is over.</param>
/// <param name="Channels">To whom it is told; empty: it stands only among what needs somebody.</param>
/// <param name="InQuietHours">Whether it is told in quiet hours too.</param>
public sealed record AlertRule(
    NeedKind Kind,
    string Crossings = "*",
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] double? LimitSeconds = null,
    double ForSeconds = 0,
    double OverAfterSeconds = 60,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<string>? Channels = null,
    bool InQuietHours = false)
{
    private const double OverAt = 0.8;

    /// <summary>Whether a lag is beyond the limit, or for a raised alarm not yet back behind the lower one.</summary>
    public bool IsBeyond(TimeSpan behind, bool raised) => LimitSeconds is { } limit && behind.TotalSeconds > (raised ? limit * OverAt : limit);
}
