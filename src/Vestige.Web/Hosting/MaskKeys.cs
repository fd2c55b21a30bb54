using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using Vestige.Core.Treatments;

namespace Vestige.Web.Hosting;

/// <summary>The keys of masks, each drawn from one secret of this data folder by its name (HKDF with SHA-256, RFC 5869).</summary>
public sealed class MaskKeys(byte[] secret) : IMaskKeys
{
    private readonly ConcurrentDictionary<string, byte[]> drawn = new();

    private const int Size = 32;

    public byte[] Of(string name) =>
        drawn.GetOrAdd(name, key =>
            HKDF.DeriveKey(HashAlgorithmName.SHA256, secret, Size, info: Encoding.UTF8.GetBytes($"vestige mask {key}"))
        );
}
