using System.Buffers;
using System.Buffers.Binary;
using System.Text;
using Vestige.Core.Positions;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Spooling;

/// <summary>Lays fragments one after the other into the body of a data record.</summary>
internal static class FragmentCodec
{
    private const int HeadSize = 8 + 8 + 8 + 1 + 4 + 4;
    private const int HasOrigin = 4;

    public static void Write(IBufferWriter<byte> output, LogFragment fragment, DateTimeOffset capturedAt)
    {
        var head = output.GetSpan(HeadSize);
        BinaryPrimitives.WriteUInt64LittleEndian(head, fragment.Position.Place);
        BinaryPrimitives.WriteInt64LittleEndian(head[8..], fragment.CommittedAt.UtcTicks);
        BinaryPrimitives.WriteInt64LittleEndian(head[16..], capturedAt.UtcTicks);
        var origin = fragment.Origin is null ? default : Encoding.UTF8.GetBytes(fragment.Origin);
        head[24] = (byte)((fragment.First ? 1 : 0) | (fragment.Last ? 2 : 0) | (fragment.Origin is null ? 0 : HasOrigin));
        BinaryPrimitives.WriteInt32LittleEndian(head[25..], fragment.Count);
        BinaryPrimitives.WriteInt32LittleEndian(head[29..], fragment.Changes.Length);
        output.Advance(HeadSize);
        if (fragment.Origin is not null)
        {
            BinaryPrimitives.WriteInt32LittleEndian(output.GetSpan(4), origin!.Length);
            output.Advance(4);
            output.Write(origin);
        }

        output.Write(fragment.Changes.Span);
    }

    /// <summary>Reads all fragments of a body; the totals count back from those at its end.</summary>
    public static List<SpooledFragment> Read(ReadOnlyMemory<byte> body, long transactionsAtEnd, long changesAtEnd)
    {
        var parts = new List<SpooledFragment>();
        var transactions = 0L;
        var changes = 0L;
        var at = 0;
        while (at < body.Length)
        {
            var head = body.Span[at..];
            var length = BinaryPrimitives.ReadInt32LittleEndian(head[29..]);
            var count = BinaryPrimitives.ReadInt32LittleEndian(head[25..]);
            var begin = at + HeadSize;
            string? origin = null;
            if ((head[24] & HasOrigin) != 0)
            {
                var size = BinaryPrimitives.ReadInt32LittleEndian(head[HeadSize..]);
                origin = Encoding.UTF8.GetString(head.Slice(HeadSize + 4, size));
                begin += 4 + size;
            }

            transactions += (head[24] & 2) != 0 ? 1 : 0;
            changes += count;
            parts.Add(new SpooledFragment(
                new LogPosition(BinaryPrimitives.ReadUInt64LittleEndian(head)),
                new DateTimeOffset(BinaryPrimitives.ReadInt64LittleEndian(head[8..]), TimeSpan.Zero),
                new DateTimeOffset(BinaryPrimitives.ReadInt64LittleEndian(head[16..]), TimeSpan.Zero),
                (head[24] & 1) != 0,
                (head[24] & 2) != 0,
                count,
                body.Slice(begin, length),
                transactions,
                changes,
                origin));
            at = begin + length;
        }

        for (var i = 0; i < parts.Count; i++)
        {
            parts[i] = parts[i] with
            {
                Transactions = transactionsAtEnd - transactions + parts[i].Transactions,
                TotalChanges = changesAtEnd - changes + parts[i].TotalChanges,
            };
        }

        return parts;
    }
}
