using System.Buffers.Binary;
using System.Text;

namespace Vestige.Connectors.PostgreSql.Wire;

/// <summary>Takes the fields of a message one after the other; numbers come in network order.</summary>
internal ref struct WireReader(ReadOnlySpan<byte> bytes)
{
    private ReadOnlySpan<byte> rest = bytes;

    public readonly bool AtEnd => rest.IsEmpty;

    public byte Byte()
    {
        var value = rest[0];
        rest = rest[1..];
        return value;
    }

    public short Int16()
    {
        var value = BinaryPrimitives.ReadInt16BigEndian(rest);
        rest = rest[2..];
        return value;
    }

    public int Int32()
    {
        var value = BinaryPrimitives.ReadInt32BigEndian(rest);
        rest = rest[4..];
        return value;
    }

    public uint UInt32() => (uint)Int32();

    public ulong UInt64()
    {
        var value = BinaryPrimitives.ReadUInt64BigEndian(rest);
        rest = rest[8..];
        return value;
    }

    public long Int64() => (long)UInt64();

    public string Text()
    {
        var end = rest.IndexOf((byte)0);
        var value = Encoding.UTF8.GetString(rest[..end]);
        rest = rest[(end + 1)..];
        return value;
    }

    public ReadOnlySpan<byte> Bytes(int length)
    {
        var value = rest[..length];
        rest = rest[length..];
        return value;
    }
}
