using System.Globalization;
using System.Text.RegularExpressions;

namespace Vestige.Core.Expressions;

/// <summary>
/// Dates and times as counts since 1970-01-01 in the proleptic Gregorian calendar, to and from the text forms that databases
/// write (ISO 8601 with a blank for the T, years before 1 as BC, the infinities as words). The arithmetic of days is that of
/// H. Hinnant, "chrono-Compatible Low-Level Date Algorithms" (2013). Infinities are the ends of 64 bits.
/// </summary>
public static partial class CivilTime
{
    public const long Infinity = long.MaxValue;
    public const long NegativeInfinity = long.MinValue;
    public const long MicrosecondsPerDay = 86_400_000_000;

    /// <summary>The days from 1970-01-01 to a day of the astronomical year (0 is 1 BC).</summary>
    public static long DaysOf(long year, int month, int day)
    {
        year -= month <= 2 ? 1 : 0;
        var era = (year >= 0 ? year : year - 399) / 400;
        var yearOfEra = year - (era * 400);
        var dayOfYear = (((153 * (month + (month > 2 ? -3 : 9))) + 2) / 5) + day - 1;
        var dayOfEra = (yearOfEra * 365) + (yearOfEra / 4) - (yearOfEra / 100) + dayOfYear;
        return (era * 146_097) + dayOfEra - 719_468;
    }

    /// <summary>The inverse of <see cref="DaysOf"/>.</summary>
    public static (long Year, int Month, int Day) DateOf(long days)
    {
        days += 719_468;
        var era = (days >= 0 ? days : days - 146_096) / 146_097;
        var dayOfEra = days - (era * 146_097);
        var yearOfEra = (dayOfEra - (dayOfEra / 1460) + (dayOfEra / 36_524) - (dayOfEra / 146_096)) / 365;
        var dayOfYear = dayOfEra - ((365 * yearOfEra) + (yearOfEra / 4) - (yearOfEra / 100));
        var shifted = ((5 * dayOfYear) + 2) / 153;
        var day = (int)(dayOfYear - (((153 * shifted) + 2) / 5) + 1);
        var month = (int)(shifted < 10 ? shifted + 3 : shifted - 9);
        return (yearOfEra + (era * 400) + (month <= 2 ? 1 : 0), month, day);
    }

    /// <summary>Reads a date; null when the text is none.</summary>
    public static long? ParseDate(string text) => Endless(text) ?? (Parse(text) is { } read && !read.HasTime ? read.Days : null);

    /// <summary>Reads a date, or a date and time without a zone; null when the text is none.</summary>
    public static long? ParseTimestamp(string text) =>
        Endless(text) ?? (Parse(text) is { } read && read.Offset is null ? Join(read.Days, read.Microseconds) : null);

    /// <summary>Reads a date and time with its offset from UTC; null when the text is none.</summary>
    public static long? ParseInstant(string text) =>
        Endless(text) ?? (Parse(text) is { Offset: { } offset } read ? Join(read.Days, read.Microseconds - offset) : null);

    public static string FormatDate(long days)
    {
        if (days is Infinity or NegativeInfinity)
        {
            return Word(days);
        }

        var (year, month, day) = DateOf(days);
        return $"{Year(year)}-{month:00}-{day:00}{(year <= 0 ? " BC" : "")}";
    }

    public static string FormatTimestamp(long microseconds) => Format(microseconds, "");

    public static string FormatInstant(long microseconds) => Format(microseconds, "+00");

    /// <summary>The day on which a time falls; the infinities stay.</summary>
    public static long DayOf(long microseconds) =>
        microseconds is Infinity or NegativeInfinity ? microseconds : (long)Math.Floor((decimal)microseconds / MicrosecondsPerDay);

    /// <summary>The first moment of a day; the infinities stay. Null when that is out of range.</summary>
    public static long? StartOf(long days) => days is Infinity or NegativeInfinity ? days : Join(days, 0);

    private static string Format(long microseconds, string zone)
    {
        if (microseconds is Infinity or NegativeInfinity)
        {
            return Word(microseconds);
        }

        var days = DayOf(microseconds);
        var (year, month, day) = DateOf(days);
        var rest = microseconds - (days * MicrosecondsPerDay);
        var seconds = rest / 1_000_000;
        var part = rest % 1_000_000;
        var fraction = part == 0 ? "" : $".{part:000000}".TrimEnd('0');
        return $"{Year(year)}-{month:00}-{day:00} "
            + $"{seconds / 3600:00}:{seconds / 60 % 60:00}:{seconds % 60:00}{fraction}{zone}{(year <= 0 ? " BC" : "")}";
    }

    private static string Year(long year) => (year <= 0 ? 1 - year : year).ToString("0000", CultureInfo.InvariantCulture);

    private static string Word(long end) => end == Infinity ? "infinity" : "-infinity";

    private static long? Endless(string text) =>
        text switch
        {
            "infinity" => Infinity,
            "-infinity" => NegativeInfinity,
            _ => null,
        };

    private static long? Join(long days, long microseconds)
    {
        var joined = ((Int128)days * MicrosecondsPerDay) + microseconds;
        return joined > long.MinValue && joined < long.MaxValue ? (long)joined : null;
    }

    private static (long Days, long Microseconds, long? Offset, bool HasTime)? Parse(string text)
    {
        var match = Form().Match(text);
        if (!match.Success)
        {
            return null;
        }

        var written = long.Parse(match.Groups["y"].ValueSpan, CultureInfo.InvariantCulture);
        var year = match.Groups["bc"].Success ? 1 - written : written;
        var (month, day) = (Part(match, "m"), Part(match, "d"));
        if (written == 0 || month is < 1 or > 12 || day < 1 || day > DaysIn(year, month))
        {
            return null;
        }

        var (hour, minute, second) = (Part(match, "h"), Part(match, "i"), Part(match, "s"));
        if (hour > 24 || minute > 59 || second > 59 || (hour == 24 && (minute > 0 || second > 0)))
        {
            return null;
        }

        var fraction = match.Groups["f"].Success ? int.Parse(match.Groups["f"].Value.PadRight(6, '0'), CultureInfo.InvariantCulture) : 0;
        long? offset = null;
        if (match.Groups["z"].Success)
        {
            var seconds = (Part(match, "zh") * 3600L) + (Part(match, "zm") * 60L) + Part(match, "zs");
            offset = (match.Groups["z"].Value == "-" ? -seconds : seconds) * 1_000_000;
        }
        else if (match.Groups["utc"].Success)
        {
            offset = 0;
        }

        return (
            DaysOf(year, month, day),
            (((((hour * 60L) + minute) * 60) + second) * 1_000_000) + fraction,
            offset,
            match.Groups["h"].Success
        );
    }

    private static int DaysIn(long year, int month) =>
        (int)(DaysOf(month == 12 ? year + 1 : year, month == 12 ? 1 : month + 1, 1) - DaysOf(year, month, 1));

    private static int Part(Match match, string name) =>
        match.Groups[name].Success ? int.Parse(match.Groups[name].ValueSpan, CultureInfo.InvariantCulture) : 0;

    [GeneratedRegex(
        @"^(?<y>[0-9]{4,7})-(?<m>[0-9]{2})-(?<d>[0-9]{2})(?:[ T](?<h>[0-9]{2}):(?<i>[0-9]{2})(?::(?<s>[0-9]{2})(?:\.(?<f>[0-9]{1,6}))?)?"
            + @"(?:(?<z>[+-])(?<zh>[0-9]{2})(?::?(?<zm>[0-9]{2})(?::?(?<zs>[0-9]{2}))?)?|(?<utc>Z))?)?(?<bc> BC)?\z",
        RegexOptions.CultureInvariant | RegexOptions.ExplicitCapture,
        matchTimeoutMilliseconds: 1000
    )]
    private static partial Regex Form();
}
