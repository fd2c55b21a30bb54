namespace Vestige.Core.Alerts;

/// <summary>A part of each day in which only what must be is told; what still stands at its end is told then.</summary>
/// <param name="From">Its beginning.</param>
/// <param name="To">Its end; before the beginning where it goes over midnight, equal for none.</param>
/// <param name="Zone">The time zone, by its IANA name.</param>
public sealed record QuietHours(TimeOnly From, TimeOnly To, string Zone = "UTC")
{
    /// <summary>Whether a moment lies within.</summary>
    public bool Contains(DateTimeOffset moment)
    {
        var zone = TimeZoneInfo.TryFindSystemTimeZoneById(Zone, out var found) ? found : TimeZoneInfo.Utc;
        var time = TimeOnly.FromDateTime(TimeZoneInfo.ConvertTime(moment, zone).DateTime);
        return From != To && time.IsBetween(From, To);
    }
}
