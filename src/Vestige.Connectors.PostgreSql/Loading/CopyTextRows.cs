using System.Buffers;
using System.Globalization;
using Vestige.Core.Changes;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Loading;

/// <summary>
/// Reads rows in the text form of COPY (PostgreSQL manual, COPY, Text Format) into the common form. Not safe for several threads.
/// </summary>
internal sealed class CopyTextRows(int columns)
{
    private readonly RowWriter row = new();
    private byte[] value = new byte[1024];

    /// <summary>The same rows in the common form.</summary>
    public RowBlock Read(RowBlock text)
    {
        var rows = new ArrayBufferWriter<byte>(text.Rows.Length + (text.Count * (20 + (4 * columns))));
        var rest = text.Rows.Span;
        while (!rest.IsEmpty)
        {
            var end = rest.IndexOf((byte)'\n');
            ReadRow(rest[..end]);
            ChangeWriter.Write(rows, ChangeKind.Insert, 0, default, row.Finish());
            rest = rest[(end + 1)..];
        }

        return new RowBlock(rows.WrittenMemory, text.Count);
    }

    private void ReadRow(ReadOnlySpan<byte> line)
    {
        row.Begin(columns);
        for (var i = 0; i < columns; i++)
        {
            var end = line.IndexOf((byte)'\t');
            var field = end < 0 ? line : line[..end];
            line = end < 0 ? default : line[(end + 1)..];
            if (field.SequenceEqual("\\N"u8))
            {
                row.Null();
            }
            else
            {
                row.Value(ValueKind.Text, Plain(field));
            }
        }
    }

    /// <summary>The field without its backslashes.</summary>
    private ReadOnlySpan<byte> Plain(ReadOnlySpan<byte> field)
    {
        var at = field.IndexOf((byte)'\\');
        if (at < 0)
        {
            return field;
        }

        if (value.Length < field.Length)
        {
            value = new byte[field.Length];
        }

        var length = 0;
        for (; at >= 0; at = field.IndexOf((byte)'\\'))
        {
            field[..at].CopyTo(value.AsSpan(length));
            length += at;
            value[length++] = Special(field[at + 1]);
            field = field[(at + 2)..];
        }

        field.CopyTo(value.AsSpan(length));
        return value.AsSpan(0, length + field.Length);
    }

    /// <summary>The server writes no octal or hexadecimal forms.</summary>
    private static byte Special(byte letter) =>
        letter switch
        {
            (byte)'b' => (byte)'\b',
            (byte)'f' => (byte)'\f',
            (byte)'n' => (byte)'\n',
            (byte)'r' => (byte)'\r',
            (byte)'t' => (byte)'\t',
            (byte)'v' => (byte)'\v',
            (byte)'\\' => (byte)'\\',
            _ => throw new InvalidDataException(
                string.Create(CultureInfo.InvariantCulture, $"The server wrote an unknown escape, {letter}.")
            ),
        };
}
