using System.Globalization;

namespace Vestige.Core.Positions;

/// <summary>
/// A place in one source's log. Places are ordered within one <see cref="LogIdentity"/> only; comparing places of two
/// identities means nothing, which is why every reconnect compares the identities first.
/// </summary>
/// <param name="Place">The place as an ordered number; what it counts is the source's own affair (bytes, for a stand-in).</param>
public readonly record struct LogPosition(ulong Place) : IComparable<LogPosition>
{
    /// <summary>The place before everything.</summary>
    public static LogPosition Zero => default;

    public int CompareTo(LogPosition other) => Place.CompareTo(other.Place);

    public static bool operator <(LogPosition left, LogPosition right) => left.Place < right.Place;

    public static bool operator >(LogPosition left, LogPosition right) => left.Place > right.Place;

    public static bool operator <=(LogPosition left, LogPosition right) => left.Place <= right.Place;

    public static bool operator >=(LogPosition left, LogPosition right) => left.Place >= right.Place;

    public static LogPosition Max(LogPosition left, LogPosition right) => left >= right ? left : right;

    public static LogPosition Min(LogPosition left, LogPosition right) => left <= right ? left : right;

    /// <summary>The bare number. Pages and the API use the source's own notation instead.</summary>
    public override string ToString() => Place.ToString(CultureInfo.InvariantCulture);
}
