using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>Leaves everything as it is.</summary>
public sealed class PlainCipher : ISpoolCipher
{
    public byte[] Seal(ReadOnlySpan<byte> plain) => plain.ToArray();

    public byte[] Open(ReadOnlySpan<byte> secret) => secret.ToArray();
}
