using System.Buffers.Binary;

namespace Vestige.Connectors.PostgreSql.Wire;

/// <summary>
/// Cuts the bytes of a connection into messages (PostgreSQL manual, Frontend/Backend Protocol, Message Formats). Messages are given
/// where they are in the buffer, without a copy. One caller at a time.
/// </summary>
internal sealed class MessageBuffer
{
    /// <summary>Less room than this is not worth a read.</summary>
    public const int LeastRoomBytes = 64 << 10;
    private const int BufferBytes = 1 << 20;

    /// <summary>Of a message that is too large, this much of the body is given: enough to see what it is about.</summary>
    private const int BeginningBytes = 64;
    private byte[] buffer = new byte[BufferBytes];
    private int start;
    private int end;
    private int toPassOver;

    /// <summary>
    /// The largest message that is taken as a whole, in bytes; of a larger one only the beginning is given, and the rest takes no memory.
    /// </summary>
    public int MostBytes { get; set; } = int.MaxValue;

    /// <summary>The next message if it is here in full; false when more must be read first. Valid until <see cref="MakeRoom"/>.</summary>
    public bool TryNext(out WireMessage message)
    {
        message = default;
        if (!PassOver() || end - start < 5)
        {
            return false;
        }

        var length = BinaryPrimitives.ReadInt32BigEndian(buffer.AsSpan(start + 1));
        if (length > MostBytes)
        {
            return TryBeginning(length, out message);
        }

        if (end - start < length + 1)
        {
            return false;
        }

        message = new WireMessage((char)buffer[start], buffer.AsMemory(start + 5, length - 4));
        start += length + 1;
        return true;
    }

    /// <summary>Passes over what is left of a message of which only the beginning was given; false when more of it is to come.</summary>
    private bool PassOver()
    {
        var here = Math.Min(toPassOver, end - start);
        start += here;
        toPassOver -= here;
        return toPassOver == 0;
    }

    private bool TryBeginning(int length, out WireMessage message)
    {
        message = default;
        if (end - start < 5 + BeginningBytes)
        {
            return false;
        }

        toPassOver = length - 4 - BeginningBytes;
        message = new WireMessage((char)buffer[start], buffer.AsMemory(start + 5, BeginningBytes), toPassOver);
        start += 5 + BeginningBytes;
        return true;
    }

    /// <summary>Room for the next read, after what is still to be taken; never empty.</summary>
    public Memory<byte> MakeRoom()
    {
        Arrange();
        return buffer.AsMemory(end);
    }

    /// <summary>Says how many bytes were read into the room.</summary>
    public void Filled(int bytes) => end += bytes;

    private void Arrange()
    {
        if (start == end)
        {
            start = end = 0;

            // One large value must not cost its memory for good.
            buffer = buffer.Length > BufferBytes ? new byte[BufferBytes] : buffer;
        }

        if (end < buffer.Length && (start == 0 || buffer.Length - end >= LeastRoomBytes))
        {
            return;
        }

        var held = end - start;
        var length = held >= 5 ? BinaryPrimitives.ReadInt32BigEndian(buffer.AsSpan(start + 1)) : 0;
        var needed = length > MostBytes ? 0 : length + 1;
        var larger = needed > buffer.Length ? new byte[Math.Max(needed, buffer.Length * 2)] : buffer;
        buffer.AsSpan(start, held).CopyTo(larger);
        buffer = larger;
        start = 0;
        end = held;
    }
}
