using System.Security.Cryptography;
using Microsoft.AspNetCore.DataProtection;

namespace Vestige.Web.Hosting;

/// <summary>A random key that lies in the data folder, wrapped by the data protection key ring, which lies elsewhere.</summary>
internal static class WrappedKey
{
    public const int Size = 32;

    /// <summary>Reads the key of a data folder, making one for a new folder.</summary>
    public static byte[] Open(VestigeSettings settings, IDataProtectionProvider protection, string purpose)
    {
        var protector = protection.CreateProtector($"vestige.{purpose}");
        var path = Path.Combine(settings.DataFolder, $"{purpose}.key");
        if (!File.Exists(path))
        {
            File.WriteAllBytes(path, protector.Protect(RandomNumberGenerator.GetBytes(Size)));
        }

        try
        {
            return protector.Unprotect(File.ReadAllBytes(path));
        }
        catch (CryptographicException exception)
        {
            throw new InvalidOperationException(
                $"The key in {path} cannot be unwrapped with the key ring in {settings.KeyFolder}. Restore the key ring, or start with another data folder.",
                exception);
        }
    }
}
