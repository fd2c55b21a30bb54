using System.Buffers.Binary;
using Vestige.Core.Expressions;

namespace Vestige.Core.Treatments;

/// <summary>
/// What masks make of values and of their keyed hashes (vectors in RFC 4231). Nothing of a value is in any exception.
/// </summary>
internal static class Masking
{
    /// <summary>The hash in lower-case hexadecimal digits.</summary>
    public static Datum Hashed(ReadOnlySpan<byte> hash) => Datum.Of(Convert.ToHexStringLower(hash));

    /// <summary>What a pseudonym is made of.</summary>
    public static Datum Pseudonym(PseudonymKind kind, ReadOnlySpan<byte> hash) =>
        kind switch
        {
            PseudonymKind.Name => Datum.Of(Pseudonyms.Name(hash)),
            PseudonymKind.Email => Datum.Of(Pseudonyms.Email(hash)),
            PseudonymKind.Number => Datum.Of(Pseudonyms.Number(hash)),
            _ => Datum.Of(Pseudonyms.Code(hash)),
        };

    /// <summary>A star for each character but the last; a text that is not longer than what stays becomes stars as a whole.</summary>
    public static string KeepLast(string text, int last)
    {
        var stays = text.Length;
        for (var i = 0; i < last && stays > 0; i++)
        {
            stays -= IsPair(text, stays - 2) ? 2 : 1;
        }

        stays = stays == 0 ? text.Length : stays;
        var stars = stays;
        for (var i = 0; i < stays - 1; i++)
        {
            stars -= IsPair(text, i) ? 1 : 0;
        }

        return string.Concat(new string('*', stars), text.AsSpan(stays));
    }

    /// <summary>Whether one character stands there in two units.</summary>
    private static bool IsPair(string text, int at) => at >= 0 && char.IsHighSurrogate(text[at]) && char.IsLowSurrogate(text[at + 1]);

    /// <summary>The days by which rows of one mark are shifted: from 1 to the most, before or after, never none.</summary>
    public static int Shift(ReadOnlySpan<byte> hash, int most)
    {
        var step = (int)(BinaryPrimitives.ReadUInt64BigEndian(hash) % (ulong)(2 * most));
        return step < most ? step - most : step - most + 1;
    }

    /// <summary>A date or time moved by days; the infinities stay, and what would leave the calendar as well.</summary>
    public static Datum Shifted(ExpressionType type, Datum value, int days)
    {
        if (value.Integer is CivilTime.Infinity or CivilTime.NegativeInfinity)
        {
            return value;
        }

        return Datum.Of(value.Integer + (type == ExpressionType.Date ? days : days * CivilTime.MicrosecondsPerDay));
    }
}
