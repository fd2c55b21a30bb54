using System.Buffers;
using System.Buffers.Binary;

namespace Vestige.Core.Changes;

/// <summary>
/// Lays changes one after the other into a buffer: kind (1 byte), relation (4), length of the row before (4), that row,
/// length of the row after (4), that row; numbers little-endian. The stand-in's log and the spool share this form, so
/// bytes pass from the one to the other as they are.
/// </summary>
public static class ChangeWriter
{
    internal const int HeadSize = 9;

    public static void Write(IBufferWriter<byte> output, RowChange change) =>
        Write(output, change.Kind, change.Relation, change.Before.Bytes.Span, change.After.Bytes.Span);

    /// <summary>Writes one change and returns its size in bytes.</summary>
    public static int Write(IBufferWriter<byte> output, ChangeKind kind, int relation, ReadOnlySpan<byte> before, ReadOnlySpan<byte> after)
    {
        ArgumentNullException.ThrowIfNull(output);
        var size = HeadSize + before.Length + sizeof(int) + after.Length;
        var span = output.GetSpan(size);
        span[0] = (byte)kind;
        BinaryPrimitives.WriteInt32LittleEndian(span[1..], relation);
        BinaryPrimitives.WriteInt32LittleEndian(span[5..], before.Length);
        before.CopyTo(span[HeadSize..]);
        BinaryPrimitives.WriteInt32LittleEndian(span[(HeadSize + before.Length)..], after.Length);
        after.CopyTo(span[(HeadSize + before.Length + sizeof(int))..]);
        output.Advance(size);
        return size;
    }
}
