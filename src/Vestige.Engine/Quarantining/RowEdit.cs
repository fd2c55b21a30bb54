using System.Globalization;
using Vestige.Core.Changes;
using Vestige.Engine.Faults;

namespace Vestige.Engine.Quarantining;

/// <summary>Edits the row of a change that waits.</summary>
internal static class RowEdit
{
    /// <summary>
    /// The change with other values in its row after. Each value keeps the form that the column has in the row: a whole number, a
    /// number, bytes as hexadecimal digits, or text. Throws <see cref="RequestRefusedException"/> when that cannot be, or the row could
    /// not be told from others any more.
    /// </summary>
    public static WaitingChange Edit(WaitingChange change, IReadOnlyDictionary<string, string?> values)
    {
        var row = change.Change.After;
        if (row.IsNone)
        {
            throw new RequestRefusedException("A deletion has no row to edit.") { Remedy = "Try it again, or drop it." };
        }

        var edited = values.ToDictionary(value => OrdinalOf(change, value.Key), value => value.Value);
        if (edited.Count == 0)
        {
            throw new RequestRefusedException("No value is given.") { Remedy = "Change at least one value." };
        }

        var writer = new RowWriter();
        writer.Begin(row.Count);
        for (var i = 0; i < row.Count; i++)
        {
            if (edited.TryGetValue(i, out var text))
            {
                Write(writer, change.Schema.Columns[i].Name, row.KindAt(i), text);
            }
            else
            {
                writer.Value(row.KindAt(i), row.ValueAt(i));
            }
        }

        return change with
        {
            Change = change.Change with { After = writer.ToRow() },
        };
    }

    private static int OrdinalOf(WaitingChange change, string column)
    {
        var ordinal = change.Schema.IndexOf(column);
        if (ordinal < 0)
        {
            throw new RequestRefusedException($"{change.Table} has no column {column}.")
            {
                Remedy = $"Its columns are {string.Join(", ", change.Schema.Columns.Select(one => one.Name))}.",
            };
        }

        return change.KeyOrdinals.Contains(ordinal)
            ? throw new RequestRefusedException($"{column} tells which row it is, and cannot be edited.")
            {
                Remedy = "Correct the row at the source, or drop the change.",
            }
            : ordinal;
    }

    private static void Write(RowWriter writer, string column, ValueKind kind, string? text)
    {
        switch (kind)
        {
            case var _ when text is null:
                writer.Null();
                break;
            case ValueKind.Integer when long.TryParse(text, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var whole):
                writer.Integer(whole);
                break;
            case ValueKind.Real when double.TryParse(text, NumberStyles.Float, CultureInfo.InvariantCulture, out var number):
                writer.Real(number);
                break;
            case ValueKind.Bytes when TryHex(text, out var bytes):
                writer.Value(ValueKind.Bytes, bytes);
                break;
            case ValueKind.Text or ValueKind.Null or ValueKind.Absent:
                writer.Text(text);
                break;
            default:
                throw new RequestRefusedException(
                    $"{column}: '{text}' is not {(kind == ValueKind.Bytes ? "an even number of hexadecimal digits" : "a number")}."
                )
                {
                    Remedy = "Write it as the row shows it.",
                };
        }
    }

    private static bool TryHex(string text, out byte[] bytes)
    {
        try
        {
            bytes = Convert.FromHexString(text);
            return true;
        }
        catch (FormatException)
        {
            bytes = [];
            return false;
        }
    }
}
