using System.Buffers.Binary;
using System.Security.Cryptography;
using System.Text;
using Vestige.Core.Expressions;

namespace Vestige.Core.Treatments;

/// <summary>
/// The masks as functions of values. Keyed hashes are HMAC-SHA-256 (RFC 2104; vectors in RFC 4231). Nothing of a value is in
/// any exception.
/// </summary>
internal static class Masking
{
    /// <summary>The keyed hash of a value's text, 32 bytes.</summary>
    public static void Hash(byte[] key, string text, Span<byte> hash)
    {
        Span<byte> utf8 = text.Length <= 256 ? stackalloc byte[text.Length * 3] : new byte[Encoding.UTF8.GetByteCount(text)];
        var length = Encoding.UTF8.GetBytes(text, utf8);
        HMACSHA256.HashData(key, utf8[..length], hash);
    }

    /// <summary>HMAC-SHA-256 in lower-case hexadecimal digits.</summary>
    public static string Hashed(byte[] key, string text)
    {
        Span<byte> hash = stackalloc byte[32];
        Hash(key, text, hash);
        return Convert.ToHexStringLower(hash);
    }

    public static Datum Pseudonym(byte[] key, PseudonymKind kind, string text)
    {
        Span<byte> hash = stackalloc byte[32];
        Hash(key, text, hash);
        return kind switch
        {
            PseudonymKind.Name => Datum.Of(Pseudonyms.Name(hash)),
            PseudonymKind.Email => Datum.Of(Pseudonyms.Email(hash)),
            PseudonymKind.Number => Datum.Of(Pseudonyms.Number(hash)),
            _ => Datum.Of(Pseudonyms.Code(hash)),
        };
    }

    /// <summary>A star for each character but the last; a text that is not longer than what stays becomes stars as a whole.</summary>
    public static string KeepLast(string text, int last)
    {
        var runes = text.EnumerateRunes().ToList();
        var stars = runes.Count <= last ? runes.Count : runes.Count - last;
        return new string('*', stars) + string.Concat(runes.Skip(stars));
    }

    /// <summary>The days by which rows of one mark are shifted: from 1 to the most, before or after, never none.</summary>
    public static int Shift(byte[] key, string along, int most)
    {
        Span<byte> hash = stackalloc byte[32];
        Hash(key, along, hash);
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
