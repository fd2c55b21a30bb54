using System.Globalization;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;

namespace Vestige.Core.Reconciling;

/// <summary>
/// Keys of whole numbers: the only ones that every engine, server and setting puts in one order, so that ranges of them mean the
/// same on both sides.
/// </summary>
public static class IntegerKeys
{
    /// <summary>Whether a table's key is made of whole numbers.</summary>
    public static bool Has(TableSchema table, Func<Column, ColumnMeaning> meaning)
    {
        ArgumentNullException.ThrowIfNull(table);
        ArgumentNullException.ThrowIfNull(meaning);
        return table.HasKey && table.KeyOrdinals.All(ordinal => meaning(table.Columns[ordinal]).Type == ExpressionType.Integer);
    }

    /// <summary>
    /// Compares rows that hold the key columns only. What is no whole number, as some engines let stand in such a column, comes last.
    /// </summary>
    public static int Compare(Row left, Row right)
    {
        for (var i = 0; i < Math.Min(left.Count, right.Count); i++)
        {
            var order = Number(left, i).CompareTo(Number(right, i));
            if (order != 0)
            {
                return order;
            }
        }

        return left.Count.CompareTo(right.Count);
    }

    /// <summary>Reads a key that a person wrote, its numbers divided by commas; none when it is not one.</summary>
    public static Row Parse(string text, int columns)
    {
        ArgumentNullException.ThrowIfNull(text);
        var parts = text.Split(',', StringSplitOptions.TrimEntries);
        var writer = new RowWriter();
        writer.Begin(columns);
        foreach (var part in parts)
        {
            if (
                parts.Length != columns
                || !long.TryParse(part, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var number)
            )
            {
                return default;
            }

            writer.Integer(number);
        }

        return writer.ToRow();
    }

    /// <summary>The key as a person reads it.</summary>
    public static string Display(Row key) => string.Join(", ", key.Ordinals.Select(key.DisplayAt));

    /// <summary>A value of a key as it is compared.</summary>
    internal static Int128 Number(Row row, int column) =>
        row.KindAt(column) switch
        {
            ValueKind.Integer => row.IntegerAt(column),
            ValueKind.Text
                when long.TryParse(row.ValueAt(column), NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var number) =>
                number,
            _ => Int128.MaxValue,
        };
}
