using System.Buffers;
using Vestige.Core.Changes;

namespace Vestige.Core.Reconciling;

/// <summary>
/// Values in their server's own texts, put together as PostgreSQL writes a row (manual, Composite Types, Input and Output Syntax):
/// in parentheses, divided by commas, nothing for NULL, in quotes with quotes and backslashes doubled where a text is empty or
/// holds one of them, a parenthesis, a comma or white space.
/// </summary>
public sealed class TextForm : IRowForm
{
    private static readonly SearchValues<byte> Quoted = SearchValues.Create("\"\\(), \t\n\v\f\r"u8);
    private static readonly SearchValues<byte> Doubled = SearchValues.Create("\"\\"u8);

    private TextForm() { }

    public static TextForm Instance { get; } = new();

    public void Write(Row row, IReadOnlyList<int> columns, IBufferWriter<byte> into)
    {
        ArgumentNullException.ThrowIfNull(columns);
        ArgumentNullException.ThrowIfNull(into);
        into.Write("("u8);
        for (var i = 0; i < columns.Count; i++)
        {
            if (i > 0)
            {
                into.Write(","u8);
            }

            if (row.KindAt(columns[i]) != ValueKind.Null)
            {
                Write(row.ValueAt(columns[i]), into);
            }
        }

        into.Write(")"u8);
    }

    private static void Write(ReadOnlySpan<byte> text, IBufferWriter<byte> into)
    {
        if (!text.IsEmpty && text.IndexOfAny(Quoted) < 0)
        {
            into.Write(text);
            return;
        }

        into.Write("\""u8);
        for (var at = text.IndexOfAny(Doubled); at >= 0; at = text.IndexOfAny(Doubled))
        {
            into.Write(text[..(at + 1)]);
            into.Write(text.Slice(at, 1));
            text = text[(at + 1)..];
        }

        into.Write(text);
        into.Write("\""u8);
    }
}
