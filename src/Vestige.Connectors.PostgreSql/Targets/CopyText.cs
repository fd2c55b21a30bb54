using System.Buffers;
using System.Globalization;
using System.Text;
using Vestige.Core.Changes;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>
/// Writes rows in the text form of COPY (PostgreSQL manual, COPY, Text Format): tabs between, backslashes before what would be misread.
/// </summary>
internal static class CopyText
{
    private static readonly SearchValues<byte> Special = SearchValues.Create("\\\b\f\n\r\t\v"u8);

    /// <summary>
    /// One row, led by a number. A value that is absent is written as NULL; the statement that reads the row leaves its column alone.
    /// </summary>
    public static void Write(ArrayBufferWriter<byte> output, int what, Row row)
    {
        output.Write(Encoding.ASCII.GetBytes(what.ToString(CultureInfo.InvariantCulture)));
        output.Write("\t"u8);
        Write(output, row);
    }

    /// <summary>One row.</summary>
    public static void Write(ArrayBufferWriter<byte> output, Row row)
    {
        for (var i = 0; i < row.Count; i++)
        {
            if (i > 0)
            {
                output.Write("\t"u8);
            }

            if (row.KindAt(i) is ValueKind.Null or ValueKind.Absent)
            {
                output.Write("\\N"u8);
            }
            else
            {
                Escape(output, row.ValueAt(i));
            }
        }

        output.Write("\n"u8);
    }

    private static void Escape(ArrayBufferWriter<byte> output, ReadOnlySpan<byte> value)
    {
        for (var at = value.IndexOfAny(Special); at >= 0; at = value.IndexOfAny(Special))
        {
            output.Write(value[..at]);
            output.Write([(byte)'\\', Letter(value[at])]);
            value = value[(at + 1)..];
        }

        output.Write(value);
    }

    private static byte Letter(byte special) =>
        special switch
        {
            (byte)'\b' => (byte)'b',
            (byte)'\f' => (byte)'f',
            (byte)'\n' => (byte)'n',
            (byte)'\r' => (byte)'r',
            (byte)'\t' => (byte)'t',
            (byte)'\v' => (byte)'v',
            _ => (byte)'\\',
        };
}
