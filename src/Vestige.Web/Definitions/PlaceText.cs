using System.Globalization;
using Vestige.Core.Crossings;

namespace Vestige.Web.Definitions;

/// <summary>A place from which changes are taken, as a person types it: a position in the source's notation, or a time.</summary>
public static class PlaceText
{
    /// <summary>
    /// Null for nothing, which means now. What reads as a date with a time of day is a time, in UTC unless it says otherwise.
    /// </summary>
    public static StartPlace? Read(string? text)
    {
        var typed = text?.Trim();
        if (string.IsNullOrEmpty(typed))
        {
            return null;
        }

        return
            typed.Contains(':', StringComparison.Ordinal)
            && DateTimeOffset.TryParse(
                typed.Replace("UTC", "", StringComparison.Ordinal),
                CultureInfo.InvariantCulture,
                DateTimeStyles.AssumeUniversal,
                out var time
            )
            ? new StartPlace(Time: time)
            : new StartPlace(typed);
    }
}
