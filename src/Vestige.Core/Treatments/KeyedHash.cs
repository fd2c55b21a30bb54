using System.Security.Cryptography;
using System.Text;

namespace Vestige.Core.Treatments;

/// <summary>
/// HMAC-SHA-256 under one key (RFC 2104), kept ready: setting up the key costs more than hashing a short value. Not safe for
/// several threads.
/// </summary>
internal sealed class KeyedHash(byte[] key)
{
    public const int Size = 32;
    private readonly IncrementalHash hash = IncrementalHash.CreateHMAC(HashAlgorithmName.SHA256, key);

    public void Of(ReadOnlySpan<byte> value, Span<byte> into)
    {
        hash.AppendData(value);
        hash.GetHashAndReset(into);
    }

    /// <summary>Of a text's UTF-8.</summary>
    public void Of(string text, Span<byte> into)
    {
        Span<byte> utf8 = text.Length <= 256 ? stackalloc byte[text.Length * 3] : new byte[Encoding.UTF8.GetByteCount(text)];
        Of(utf8[..Encoding.UTF8.GetBytes(text, utf8)], into);
    }
}
