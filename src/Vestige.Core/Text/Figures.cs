using System.Globalization;

namespace Vestige.Core.Text;

/// <summary>Figures as they are shown: units always, digits in groups of three, durations short.</summary>
public static class Figures
{
    /// <summary>A thin, unbreakable space.</summary>
    public const char Thin = '\u202F';

    private static readonly NumberFormatInfo Grouped = new() { NumberGroupSeparator = Thin.ToString(), NumberDecimalDigits = 0 };

    /// <summary>A position as its source writes it, grouped where it is a number.</summary>
    public static string Position(string text) =>
        long.TryParse(text, NumberStyles.None, CultureInfo.InvariantCulture, out var number) ? Count(number) : text;

    /// <summary>The first of some things, and how many more there are.</summary>
    public static string Listed(IReadOnlyCollection<string> all, int most)
    {
        ArgumentNullException.ThrowIfNull(all);
        var more = all.Count > most ? $" and {all.Count - most} more" : "";
        return $"{string.Join(", ", all.Take(most))}{more}";
    }

    public static string Count(long value) => value.ToString("N0", Grouped);

    public static string Rate(double perSecond) =>
        perSecond is > 0 and < 10 ? perSecond.ToString("0.#", CultureInfo.InvariantCulture) : Count((long)Math.Round(perSecond));

    /// <summary>0.3 s, 48 s, 6.2 min, 2 h 10 min, 3 d 4 h.</summary>
    public static string Duration(TimeSpan span)
    {
        var seconds = span.TotalSeconds;
        return seconds switch
        {
            < 0.0095 => seconds <= 0 ? "0 s" : $"{Math.Max(1, Math.Round(seconds * 1000)).ToString(CultureInfo.InvariantCulture)} ms",
            < 0.0995 => $"{Math.Round(seconds * 1000).ToString(CultureInfo.InvariantCulture)} ms",
            < 9.95 => $"{seconds.ToString("0.0", CultureInfo.InvariantCulture)} s",
            < 59.5 => $"{Math.Round(seconds).ToString(CultureInfo.InvariantCulture)} s",
            < 600 => $"{(seconds / 60).ToString("0.0", CultureInfo.InvariantCulture)} min",
            < 3570 => $"{Math.Round(seconds / 60).ToString(CultureInfo.InvariantCulture)} min",
            < 86370 => Two(Math.Round(seconds / 60), 60, "h", "min"),
            _ => Two(Math.Round(seconds / 3600), 24, "d", "h"),
        };
    }

    /// <summary>Decimal units: 12 kB, 3.1 MB, 2.4 GB.</summary>
    public static string Bytes(long bytes) =>
        bytes switch
        {
            < 1000 => $"{bytes} B",
            < 1_000_000 => Scaled(bytes, 1e3, "kB"),
            < 1_000_000_000 => Scaled(bytes, 1e6, "MB"),
            < 1_000_000_000_000 => Scaled(bytes, 1e9, "GB"),
            _ => Scaled(bytes, 1e12, "TB"),
        };

    /// <summary>"1 table", "3 tables"; the plural only adds an s unless given.</summary>
    public static string Of(long count, string one, string? many = null) => $"{Count(count)} {(count == 1 ? one : many ?? one + "s")}";

    private static string Scaled(long bytes, double unit, string name)
    {
        var value = bytes / unit;
        return $"{value.ToString(value < 9.95 ? "0.0" : "0", CultureInfo.InvariantCulture)} {name}";
    }

    private static string Two(double small, int ratio, string large, string unit)
    {
        var whole = Math.Floor(small / ratio);
        var rest = small - (whole * ratio);
        return rest == 0 ? $"{whole} {large}" : $"{whole} {large} {rest} {unit}";
    }
}
