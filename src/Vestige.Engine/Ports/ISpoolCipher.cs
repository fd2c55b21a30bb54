namespace Vestige.Engine.Ports;

/// <summary>Keeps row values at rest unreadable. Safe for several threads.</summary>
public interface ISpoolCipher
{
    /// <summary>Encrypts and authenticates.</summary>
    byte[] Seal(ReadOnlySpan<byte> plain);

    /// <summary>
    /// Undoes <see cref="Seal"/>; throws <see cref="System.Security.Cryptography.CryptographicException"/> when the bytes were changed.
    /// </summary>
    byte[] Open(ReadOnlySpan<byte> secret);
}
