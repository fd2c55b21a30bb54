using System.Buffers;
using System.Globalization;
using System.Text;
using System.Text.Json;

namespace Vestige.Core.Reconciling;

/// <summary>
/// JSON in one form: as RFC 8785 (JSON Canonicalization Scheme), keys sorted by their UTF-16 code units, no white space, strings with
/// the fewest escapes; except that numbers keep all of their digits, where the scheme would round them to binary64. They are laid out by
/// the same rule (ECMAScript, Number::toString), so that wherever binary64 holds a number exactly as written, both agree. Of equal keys all
/// stay.
/// </summary>
public static class CanonicalJson
{
    private const int LongestPlain = 21;
    private const int SmallestPlain = -6;
    private const int MostDigits = 100_000;

    /// <summary>Writes a text in UTF-8; false, with nothing promised of what was written, when it is no JSON.</summary>
    public static bool TryWrite(ReadOnlySpan<byte> json, IBufferWriter<byte> into)
    {
        ArgumentNullException.ThrowIfNull(into);
        try
        {
            var reader = new Utf8JsonReader(json);
            using var document = JsonDocument.ParseValue(ref reader);
            var whole = !reader.Read();
            Write(document.RootElement, into);
            return whole;
        }
        catch (Exception exception) when (exception is JsonException or InvalidOperationException)
        {
            return false;
        }
    }

    private static void Write(JsonElement element, IBufferWriter<byte> into)
    {
        switch (element.ValueKind)
        {
            case JsonValueKind.Object:
                WriteObject(element, into);
                break;
            case JsonValueKind.Array:
                into.Write("["u8);
                var first = true;
                foreach (var item in element.EnumerateArray())
                {
                    into.Write(first ? ""u8 : ","u8);
                    first = false;
                    Write(item, into);
                }

                into.Write("]"u8);
                break;
            case JsonValueKind.String:
                WriteString(element.GetString()!, into);
                break;
            case JsonValueKind.Number:
                Put(Number(element.GetRawText()), into);
                break;
            default:
                Put(element.GetRawText(), into);
                break;
        }
    }

    private static void WriteObject(JsonElement element, IBufferWriter<byte> into)
    {
        into.Write("{"u8);
        var first = true;
        foreach (var property in element.EnumerateObject().OrderBy(property => property.Name, StringComparer.Ordinal))
        {
            into.Write(first ? ""u8 : ","u8);
            first = false;
            WriteString(property.Name, into);
            into.Write(":"u8);
            Write(property.Value, into);
        }

        into.Write("}"u8);
    }

    private static void WriteString(string text, IBufferWriter<byte> into)
    {
        var written = new StringBuilder(text.Length + 2).Append('"');
        foreach (var letter in text)
        {
            _ = letter switch
            {
                '"' => written.Append("\\\""),
                '\\' => written.Append("\\\\"),
                '\b' => written.Append("\\b"),
                '\f' => written.Append("\\f"),
                '\n' => written.Append("\\n"),
                '\r' => written.Append("\\r"),
                '\t' => written.Append("\\t"),
                < ' ' => written.Append(CultureInfo.InvariantCulture, $"\\u{(int)letter:x4}"),
                _ => written.Append(letter),
            };
        }

        Put(written.Append('"').ToString(), into);
    }

    /// <summary>All digits that count, with the point or the exponent where ECMAScript puts it.</summary>
    private static string Number(string raw)
    {
        var sign = raw.StartsWith('-') ? "-" : "";
        var e = raw.IndexOfAny(['e', 'E']);
        var body = raw[sign.Length..(e < 0 ? raw.Length : e)];
        if (e >= 0 && !int.TryParse(raw[(e + 1)..], NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out _))
        {
            return raw;
        }

        var exponent = e < 0 ? 0 : int.Parse(raw[(e + 1)..], NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture);
        var point = body.IndexOf('.', StringComparison.Ordinal);
        var all = body.Replace(".", "", StringComparison.Ordinal);
        var digits = all.TrimStart('0');
        if (digits.Length == 0)
        {
            return "0";
        }

        // The number is 0.digits times ten to the place.
        var place = (long)(point < 0 ? body.Length : point) - (all.Length - digits.Length) + exponent;
        digits = digits.TrimEnd('0');
        if (Math.Abs(place) > MostDigits || place > LongestPlain || place < SmallestPlain + 1)
        {
            var power = place - 1;
            var fraction = digits.Length > 1 ? $".{digits[1..]}" : "";
            return string.Create(CultureInfo.InvariantCulture, $"{sign}{digits[0]}{fraction}e{(power < 0 ? '-' : '+')}{Math.Abs(power)}");
        }

        return place <= 0 ? $"{sign}0.{new string('0', (int)-place)}{digits}"
            : digits.Length <= place ? sign + digits.PadRight((int)place, '0')
            : $"{sign}{digits[..(int)place]}.{digits[(int)place..]}";
    }

    private static void Put(string text, IBufferWriter<byte> into) => Encoding.UTF8.GetBytes(text, into);
}
