using System.Collections.Concurrent;
using System.Security.Cryptography;
using System.Text;
using Microsoft.AspNetCore.DataProtection;
using Vestige.Core.Treatments;

namespace Vestige.Web.Hosting;

/// <summary>The keys of masks, each drawn from one secret of this data folder by its name (HKDF with SHA-256, RFC 5869).</summary>
public sealed class MaskKeys(byte[] secret) : IMaskKeys
{
    private readonly ConcurrentDictionary<string, byte[]> drawn = new();

    public static MaskKeys Open(VestigeSettings settings, IDataProtectionProvider protection) => new(WrappedKey.Open(settings, protection, "mask"));

    public byte[] Of(string name) => drawn.GetOrAdd(name, key => HKDF.DeriveKey(HashAlgorithmName.SHA256, secret, WrappedKey.Size, info: Encoding.UTF8.GetBytes($"vestige mask {key}")));
}
