using System.Buffers.Binary;

namespace Vestige.Core.Changes;

/// <summary>Reads what <see cref="ChangeWriter"/> wrote. Rows are slices of the given memory, not copies.</summary>
public struct ChangeReader
{
    private readonly ReadOnlyMemory<byte> bytes;
    private int at;

    public ChangeReader(ReadOnlyMemory<byte> bytes)
    {
        this.bytes = bytes;
        at = 0;
    }

    /// <summary>How many bytes have been read.</summary>
    public readonly int Consumed => at;

    /// <summary>Moves to the next change; false at the end. Throws <see cref="InvalidDataException"/> on a torn change.</summary>
    public bool TryRead(out RowChange change)
    {
        if (at == bytes.Length)
        {
            change = default;
            return false;
        }

        var span = bytes.Span;
        if (span.Length - at < ChangeWriter.HeadSize + sizeof(int))
        {
            throw new InvalidDataException("The record of changes ends in the middle of a change.");
        }

        var kind = (ChangeKind)span[at];
        var relation = BinaryPrimitives.ReadInt32LittleEndian(span[(at + 1)..]);
        var beforeLength = BinaryPrimitives.ReadInt32LittleEndian(span[(at + 5)..]);
        var before = Slice(at + ChangeWriter.HeadSize, beforeLength);
        var afterAt = at + ChangeWriter.HeadSize + beforeLength;
        var afterLength = BinaryPrimitives.ReadInt32LittleEndian(span[afterAt..]);
        var after = Slice(afterAt + sizeof(int), afterLength);
        at = afterAt + sizeof(int) + afterLength;
        change = new RowChange(kind, relation, new Row(before), new Row(after));
        return true;
    }

    private readonly ReadOnlyMemory<byte> Slice(int start, int length)
    {
        if (length < 0 || start + (long)length > bytes.Length)
        {
            throw new InvalidDataException("The record of changes ends in the middle of a row.");
        }

        return bytes.Slice(start, length);
    }
}
