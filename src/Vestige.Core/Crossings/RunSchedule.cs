using System.Text.Json.Serialization;

namespace Vestige.Core.Crossings;

/// <summary>
/// When a crossing runs: at the times of a cron expression, or so many seconds after its last run ended. A run carries all that the
/// source has committed when it begins, then the crossing rests; there are never two at once.
/// </summary>
/// <param name="Cron">Five fields, or six with seconds first; null for the other kind.</param>
/// <param name="EverySeconds">Counted from the end of the run before; null for the other kind.</param>
/// <param name="Zone">The time zone of the cron times, by its IANA name.</param>
public sealed record RunSchedule(
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Cron = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] double? EverySeconds = null,
    string Zone = "UTC"
)
{
    /// <summary>In words.</summary>
    [JsonIgnore]
    public string Words =>
        EverySeconds is { } seconds ? $"{Text.Figures.Duration(TimeSpan.FromSeconds(seconds))} after each run" : $"at {Cron} ({Zone})";
}
