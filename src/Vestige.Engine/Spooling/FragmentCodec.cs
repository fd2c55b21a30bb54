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
    private const int HasRoute = 8;
    private const int HasToken = 16;

    public static void Write(IBufferWriter<byte> output, LogFragment fragment, DateTimeOffset capturedAt)
    {
        var head = output.GetSpan(HeadSize);
        BinaryPrimitives.WriteUInt64LittleEndian(head, fragment.Position.Offset);
        BinaryPrimitives.WriteInt64LittleEndian(head[8..], fragment.CommittedAt.UtcTicks);
        BinaryPrimitives.WriteInt64LittleEndian(head[16..], capturedAt.UtcTicks);
        head[24] = (byte)(
            (fragment.First ? 1 : 0)
            | (fragment.Last ? 2 : 0)
            | (fragment.Origin is null ? 0 : HasOrigin)
            | (fragment.Route is null ? 0 : HasRoute)
            | (fragment.Token is null ? 0 : HasToken)
        );
        BinaryPrimitives.WriteInt32LittleEndian(head[25..], fragment.Count);
        BinaryPrimitives.WriteInt32LittleEndian(head[29..], fragment.Changes.Length);
        output.Advance(HeadSize);
        WriteText(output, fragment.Origin);
        WriteText(output, fragment.Route);
        WriteText(output, fragment.Token);
        output.Write(fragment.Changes.Span);
    }

    /// <summary>Reads all fragments of a body; the totals count back from those at its end.</summary>
    /// <param name="body">The body in the clear.</param>
    /// <param name="branch">The branch of the file that it is in.</param>
    /// <param name="transactionsAtEnd">How many transactions the spool had taken at the end of it.</param>
    /// <param name="changesAtEnd">The same for changes.</param>
    public static List<SpooledFragment> Read(ReadOnlyMemory<byte> body, int branch, long transactionsAtEnd, long changesAtEnd)
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
            var origin = ReadText(body.Span, head[24] & HasOrigin, ref begin);
            var route = ReadText(body.Span, head[24] & HasRoute, ref begin);
            var token = ReadText(body.Span, head[24] & HasToken, ref begin);

            transactions += (head[24] & 2) != 0 ? 1 : 0;
            changes += count;
            parts.Add(
                new SpooledFragment(
                    new LogPosition(branch, BinaryPrimitives.ReadUInt64LittleEndian(head)),
                    new DateTimeOffset(BinaryPrimitives.ReadInt64LittleEndian(head[8..]), TimeSpan.Zero),
                    new DateTimeOffset(BinaryPrimitives.ReadInt64LittleEndian(head[16..]), TimeSpan.Zero),
                    (head[24] & 1) != 0,
                    (head[24] & 2) != 0,
                    count,
                    body.Slice(begin, length),
                    transactions,
                    changes,
                    origin,
                    route,
                    token
                )
            );
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

    private static void WriteText(IBufferWriter<byte> output, string? text)
    {
        if (text is null)
        {
            return;
        }

        var bytes = Encoding.UTF8.GetBytes(text);
        BinaryPrimitives.WriteInt32LittleEndian(output.GetSpan(4), bytes.Length);
        output.Advance(4);
        output.Write(bytes);
    }

    private static string? ReadText(ReadOnlySpan<byte> body, int flag, ref int begin)
    {
        if (flag == 0)
        {
            return null;
        }

        var size = BinaryPrimitives.ReadInt32LittleEndian(body[begin..]);
        begin += 4 + size;
        return Encoding.UTF8.GetString(body.Slice(begin - size, size));
    }
}
