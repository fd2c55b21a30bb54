using System.Globalization;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;

namespace Vestige.Core.Types;

/// <summary>Single values of rows, whichever way they are held.</summary>
internal static class RowValues
{
    /// <summary>A whole number of 64 bits that is held as text; null for any other text.</summary>
    public static long? IntegerOf(Row row, int ordinal) =>
        long.TryParse(row.ValueAt(ordinal), NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var whole) ? whole : null;

    public static bool IsInteger(Row row, int ordinal) => IntegerOf(row, ordinal) is not null;

    /// <summary>A number as an exact one, in its shortest digits; null where it is none.</summary>
    public static string? DecimalOf(Row row, int ordinal) =>
        ExactDecimal
            .Parse(
                row.KindAt(ordinal) == ValueKind.Real
                    ? row.RealAt(ordinal).ToString("R", CultureInfo.InvariantCulture)
                    : row.DisplayAt(ordinal)
            )
            ?.ToString();

    /// <summary>A truth value, held as 1 and 0 or as one of the words for them; null for any other value.</summary>
    public static bool? TruthOf(Row row, int ordinal) =>
        row.KindAt(ordinal) switch
        {
            ValueKind.Integer when row.IntegerAt(ordinal) is 0 or 1 => row.IntegerAt(ordinal) == 1,
            ValueKind.Text when ValueText.Read(ExpressionType.Boolean, row.TextAt(ordinal)) is { IsNull: false } truth => truth.Truth,
            _ => null,
        };

    /// <summary>The value as it is held there.</summary>
    public static bool Copy(this RowWriter writer, Row row, int ordinal)
    {
        writer.Value(row.KindAt(ordinal), row.ValueAt(ordinal));
        return true;
    }

    /// <summary>A text; false, with nothing written, for none.</summary>
    public static bool TryText(this RowWriter writer, string? text)
    {
        if (text is null)
        {
            return false;
        }

        writer.Text(text);
        return true;
    }
}
