using System.Security.Cryptography;
using Vestige.Engine.Ports;

namespace Vestige.Web.Hosting;

/// <summary>
/// AES-256-GCM under one key for this data folder; the key itself lies in the folder, wrapped by the data protection key
/// ring, which lies elsewhere.
/// </summary>
public sealed class SpoolCipher : ISpoolCipher
{
    private const int NonceSize = 12;
    private const int TagSize = 16;
    private readonly byte[] key;

    public SpoolCipher(byte[] key) => this.key = key;

    public byte[] Seal(ReadOnlySpan<byte> plain)
    {
        var secret = new byte[NonceSize + plain.Length + TagSize];
        RandomNumberGenerator.Fill(secret.AsSpan(0, NonceSize));
        using var cipher = new AesGcm(key, TagSize);
        cipher.Encrypt(secret.AsSpan(0, NonceSize), plain, secret.AsSpan(NonceSize, plain.Length), secret.AsSpan(NonceSize + plain.Length));
        return secret;
    }

    public byte[] Open(ReadOnlySpan<byte> secret)
    {
        var plain = new byte[secret.Length - NonceSize - TagSize];
        using var cipher = new AesGcm(key, TagSize);
        cipher.Decrypt(secret[..NonceSize], secret[NonceSize..^TagSize], secret[^TagSize..], plain);
        return plain;
    }
}
