using System.Text.Json.Serialization;

namespace Vestige.Core.Alerts;

/// <summary>When something is told and to whom. The last rule of a kind that matches a crossing decides.</summary>
/// <param name="Kind">What it is about.</param>
/// <param name="Crossings">A pattern over names of crossings.</param>
/// <param name="LimitSeconds">
/// For <see cref="NeedKind.Lag"/>: more than so many seconds behind; over below four fifths of it. For <see cref="NeedKind.LogLoss"/>: lost
/// in less than so many seconds; over above five fourths of it; null for six hours.
/// </param>
/// <param name="ForSeconds">How long it must hold before it is raised.</param>
/// <param name="OverAfterSeconds">How long it must be gone before it is over.</param>
/// <param name="Channels">Which channels are notified; empty for none.</param>
/// <param name="InQuietHours">Whether it is told in quiet hours too.</param>
public sealed record AlertRule(
    NeedKind Kind,
    string Crossings = "*",
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] double? LimitSeconds = null,
    double ForSeconds = 0,
    double OverAfterSeconds = 60,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<string>? Channels = null,
    bool InQuietHours = false
)
{
    /// <summary>How long ahead a loss is told where no rule says it.</summary>
    public const double LossAheadSeconds = 21_600;
    private const double OverAt = 0.8;

    /// <summary>
    /// Whether what it is about holds to a degree that counts: beyond the limit, or for a raised alarm not yet back under the one at which
    /// it is over.
    /// </summary>
    /// <param name="time">How far behind, or in how long it is lost; null where no time decides.</param>
    /// <param name="raised">Whether the alarm is raised.</param>
    public bool IsMet(TimeSpan? time, bool raised) =>
        (Kind, time?.TotalSeconds) switch
        {
            (NeedKind.Lag, var behind) => LimitSeconds is { } limit && behind > (raised ? limit * OverAt : limit),
            (NeedKind.LogLoss, { } ahead) => (LimitSeconds ?? LossAheadSeconds) is var limit && ahead < (raised ? limit / OverAt : limit),
            _ => true,
        };
}
