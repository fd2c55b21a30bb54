using System.Globalization;
using System.Text;
using Vestige.Core.Changes;

namespace Vestige.Core.Expressions;

/// <summary>Takes a column's value out of a row, as an expression reckons with it.</summary>
internal static class ColumnReading
{
    public static Evaluator Of(ExpressionColumn column, int ordinal)
    {
        var (type, name) = (column.Meaning.Type, column.Name);
        var single = column.Meaning.Single;
        var padded = column.Meaning.Padded;
        return row =>
        {
            var kind = row.KindAt(ordinal);
            if (kind == ValueKind.Null)
            {
                return Datum.Null;
            }

            var value = kind switch
            {
                ValueKind.Text => OfText(type, row.ValueAt(ordinal), single, padded),
                ValueKind.Integer => OfInteger(type, row.IntegerAt(ordinal)),
                ValueKind.Real => OfReal(type, row.RealAt(ordinal)),
                ValueKind.Bytes => type switch
                {
                    ExpressionType.Bytes => Datum.Of(row.ValueAt(ordinal).ToArray()),
                    ExpressionType.Other => Datum.Of(row.DisplayAt(ordinal)),
                    _ => Datum.Null,
                },
                _ => throw new EvaluationException($"the log does not carry {name}"),
            };
            return value.IsNull ? throw new EvaluationException($"the value of {name} is not of the type {type.Word()}") : value;
        };
    }

    private static Datum OfText(ExpressionType type, ReadOnlySpan<byte> bytes, bool single, bool padded)
    {
        switch (type)
        {
            case ExpressionType.Integer
                when long.TryParse(bytes, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var whole):
                return Datum.Of(whole);
            case ExpressionType.Text when padded:
                return Datum.Of(Encoding.UTF8.GetString(bytes.TrimEnd((byte)' ')));
            case ExpressionType.Text:
                return Datum.Of(Encoding.UTF8.GetString(bytes));
            case ExpressionType.Real when single && float.TryParse(bytes, NumberStyles.Float, CultureInfo.InvariantCulture, out var narrow):
                return Datum.Of((double)narrow);
            default:
                return ValueText.Read(type, Encoding.UTF8.GetString(bytes));
        }
    }

    private static Datum OfInteger(ExpressionType type, long value) =>
        type switch
        {
            ExpressionType.Integer => Datum.Of(value),
            ExpressionType.Boolean when value is 0 or 1 => Datum.Of(value == 1),
            ExpressionType.Decimal => Datum.Of(ExactDecimal.Of(value)),
            ExpressionType.Real => Datum.Of((double)value),
            ExpressionType.Text or ExpressionType.Other => Datum.Of(value.ToString(CultureInfo.InvariantCulture)),
            _ => Datum.Null,
        };

    private static Datum OfReal(ExpressionType type, double value) =>
        type switch
        {
            ExpressionType.Real => Datum.Of(value),
            ExpressionType.Decimal => ValueText.Read(ExpressionType.Decimal, ValueText.Write(ExpressionType.Real, Datum.Of(value))!),
            ExpressionType.Text or ExpressionType.Other => Datum.Of(ValueText.Write(ExpressionType.Real, Datum.Of(value))!),
            _ => Datum.Null,
        };
}
