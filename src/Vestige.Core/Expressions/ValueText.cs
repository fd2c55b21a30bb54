using System.Globalization;

namespace Vestige.Core.Expressions;

/// <summary>Values as text and back, in the forms that databases write and read.</summary>
public static class ValueText
{
    /// <summary>The text of a value; null for NULL.</summary>
    public static string? Write(ExpressionType type, Datum value) =>
        value.IsNull
            ? null
            : type switch
            {
                ExpressionType.Boolean => value.Truth ? "true" : "false",
                ExpressionType.Integer => value.Integer.ToString(CultureInfo.InvariantCulture),
                ExpressionType.Decimal => value.Decimal.ToString(),
                ExpressionType.Real => Real(value.Real),
                ExpressionType.Date => CivilTime.FormatDate(value.Integer),
                ExpressionType.Timestamp => CivilTime.FormatTimestamp(value.Integer),
                ExpressionType.Instant => CivilTime.FormatInstant(value.Integer),
                ExpressionType.Bytes => "\\x" + Convert.ToHexStringLower(value.Bytes),
                _ => value.Text,
            };

    /// <summary>Reads a text as a value of a type; NULL when it is none.</summary>
    public static Datum Read(ExpressionType type, string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        return type switch
        {
            ExpressionType.Boolean => Truth(text) is { } truth ? Datum.Of(truth) : Datum.Null,
            ExpressionType.Integer => long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var whole)
                ? Datum.Of(whole)
                : Datum.Null,
            ExpressionType.Decimal => ExactDecimal.Parse(text) is { } exact ? Datum.Of(exact) : Datum.Null,
            ExpressionType.Real => ReadReal(text) is { } real ? Datum.Of(real) : Datum.Null,
            ExpressionType.Date => CivilTime.ParseDate(text) is { } days ? Datum.Of(days) : Datum.Null,
            ExpressionType.Timestamp => CivilTime.ParseTimestamp(text) is { } time ? Datum.Of(time) : Datum.Null,
            ExpressionType.Instant => CivilTime.ParseInstant(text) is { } moment ? Datum.Of(moment) : Datum.Null,
            ExpressionType.Bytes => Bytes(text),
            _ => Datum.Of(text),
        };
    }

    /// <summary>The shortest digits that give the same number again, with an exponent outside 1e-4 to 1e15.</summary>
    private static string Real(double value)
    {
        if (double.IsNaN(value) || double.IsInfinity(value))
        {
            return double.IsNaN(value) ? "NaN"
                : value > 0 ? "Infinity"
                : "-Infinity";
        }

        var (sign, digits, exponent) = Digits(value.ToString("R", CultureInfo.InvariantCulture));
        if (exponent is < -4 or >= 15)
        {
            var fraction = digits.Length > 1 ? $".{digits[1..]}" : "";
            return $"{sign}{digits[0]}{fraction}e{(exponent < 0 ? '-' : '+')}{Math.Abs(exponent):00}";
        }

        if (exponent < 0)
        {
            return $"{sign}0.{new string('0', -exponent - 1)}{digits}";
        }

        return digits.Length <= exponent + 1
            ? sign + digits.PadRight(exponent + 1, '0')
            : $"{sign}{digits[..(exponent + 1)]}.{digits[(exponent + 1)..]}";
    }

    /// <summary>Sign, digits without zeros at the ends, and the power of ten of the first digit.</summary>
    private static (string Sign, string Digits, int Exponent) Digits(string written)
    {
        var sign = written.StartsWith('-') ? "-" : "";
        var e = written.IndexOf('E', StringComparison.Ordinal);
        var exponent = e < 0 ? 0 : int.Parse(written[(e + 1)..], NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture);
        var body = written[sign.Length..(e < 0 ? written.Length : e)];
        var point = body.IndexOf('.', StringComparison.Ordinal);
        var all = body.Replace(".", "", StringComparison.Ordinal);
        var first = all.TakeWhile(c => c == '0').Count();
        if (first == all.Length)
        {
            return (sign, "0", 0);
        }

        exponent += (point < 0 ? body.Length : point) - first - 1;
        return (sign, all[first..].TrimEnd('0'), exponent);
    }

    private static double? ReadReal(string text) =>
        text switch
        {
            "NaN" => double.NaN,
            "Infinity" => double.PositiveInfinity,
            "-Infinity" => double.NegativeInfinity,
            _ => double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var real) && double.IsFinite(real)
                ? real
                : null,
        };

    private static bool? Truth(string text) =>
        text.Trim().ToLowerInvariant() switch
        {
            "t" or "true" or "1" or "yes" or "on" => true,
            "f" or "false" or "0" or "no" or "off" => false,
            _ => null,
        };

    private static Datum Bytes(string text)
    {
        if (!text.StartsWith("\\x", StringComparison.Ordinal))
        {
            return Datum.Null;
        }

        try
        {
            return Datum.Of(Convert.FromHexString(text.AsSpan(2)));
        }
        catch (FormatException)
        {
            return Datum.Null;
        }
    }
}
