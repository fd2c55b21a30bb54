using System.Globalization;
using System.Text;
using System.Text.RegularExpressions;

namespace Vestige.Core.Text;

/// <summary>Durations as a person types them in a form: 15 min, 6 h, 1 h 30 min, 0.5 s. What is written is read back as the same.</summary>
public static partial class Durations
{
    /// <summary>Longer ones mean nothing to a person.</summary>
    private static readonly TimeSpan Longest = TimeSpan.FromDays(100_000);

    private static readonly (string Name, long Milliseconds)[] Units =
    [
        ("d", 86_400_000),
        ("h", 3_600_000),
        ("min", 60_000),
        ("s", 1_000),
        ("ms", 1),
    ];

    /// <summary>The whole duration, to the millisecond, in at most five parts.</summary>
    /// <param name="span">Not negative.</param>
    public static string Exact(TimeSpan span)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(span, TimeSpan.Zero);
        var (left, text) = ((long)Math.Round(span.TotalMilliseconds), new StringBuilder());
        foreach (var (name, milliseconds) in Units)
        {
            if (left >= milliseconds)
            {
                text.Append(CultureInfo.InvariantCulture, $"{(text.Length > 0 ? " " : "")}{left / milliseconds} {name}");
                left %= milliseconds;
            }
        }

        return text.Length > 0 ? text.ToString() : "0 s";
    }

    /// <summary>Reads numbers with units, the larger ones first; a number alone is seconds. False for anything else.</summary>
    /// <param name="text">As it was typed.</param>
    /// <param name="span">What it means; zero where it means nothing.</param>
    public static bool TryParse(string? text, out TimeSpan span)
    {
        span = TimeSpan.Zero;
        var typed = (text ?? "").Trim();
        if (double.TryParse(typed, NumberStyles.AllowDecimalPoint, CultureInfo.InvariantCulture, out var seconds))
        {
            return TryOf(seconds * 1_000, out span);
        }

        var (sum, smallest) = (0.0, long.MaxValue);
        var groups = WithUnits().Match(typed).Groups;
        foreach (var (number, unit) in groups["number"].Captures.Zip(groups["unit"].Captures))
        {
            var milliseconds = Units.First(one => one.Name.Equals(unit.Value, StringComparison.OrdinalIgnoreCase)).Milliseconds;
            if (milliseconds >= smallest)
            {
                return false;
            }

            (sum, smallest) = (sum + (double.Parse(number.Value, CultureInfo.InvariantCulture) * milliseconds), milliseconds);
        }

        return smallest < long.MaxValue && TryOf(sum, out span);
    }

    private static bool TryOf(double milliseconds, out TimeSpan span)
    {
        var isPossible = milliseconds < Longest.TotalMilliseconds;
        span = isPossible ? TimeSpan.FromMilliseconds(milliseconds) : TimeSpan.Zero;
        return isPossible;
    }

    [GeneratedRegex(
        @"^((?<number>\d{1,15}(\.\d{1,9})?)\s*(?<unit>d|h|min|s|ms)\s*)+$",
        RegexOptions.IgnoreCase | RegexOptions.CultureInvariant | RegexOptions.ExplicitCapture,
        matchTimeoutMilliseconds: 1_000
    )]
    private static partial Regex WithUnits();
}
