using System.Text.Json.Serialization;

namespace Vestige.Core.Crossings;

/// <summary>A part of a day in which nothing is applied. The log is read all the same.</summary>
/// <param name="From">Its beginning.</param>
/// <param name="To">Its end; before the beginning where it goes over midnight, and then belongs to the day on which it begins.</param>
/// <param name="Days">The days on which it begins; null or empty for all.</param>
/// <param name="Zone">The time zone, by its IANA name.</param>
public sealed record RestWindow(
    TimeOnly From,
    TimeOnly To,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<DayOfWeek>? Days = null,
    string Zone = "UTC"
)
{
    /// <summary>When the window that a moment lies in ends; null when it lies in none.</summary>
    public DateTimeOffset? EndAt(DateTimeOffset moment)
    {
        var zone = TimeZoneInfo.TryFindSystemTimeZoneById(Zone, out var found) ? found : TimeZoneInfo.Utc;
        var local = TimeZoneInfo.ConvertTime(moment, zone).DateTime;
        foreach (var day in new[] { DateOnly.FromDateTime(local), DateOnly.FromDateTime(local).AddDays(-1) })
        {
            var (begin, end) = (day.ToDateTime(From), (To <= From ? day.AddDays(1) : day).ToDateTime(To));
            if (local >= begin && local < end && (Days is not { Count: > 0 } || Days.Contains(day.DayOfWeek)))
            {
                return moment + (end - local);
            }
        }

        return null;
    }

    /// <summary>In words.</summary>
    [JsonIgnore]
    public string Words => $"{From:HH\\:mm} to {To:HH\\:mm} {Zone}{(Days is { Count: > 0 } ? $", {string.Join(", ", Days)}" : "")}";
}
