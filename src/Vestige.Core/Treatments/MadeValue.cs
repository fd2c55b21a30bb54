using System.Globalization;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;

namespace Vestige.Core.Treatments;

/// <summary>Writes a value that was made on the way as the engine's rows hold it.</summary>
internal static class MadeValue
{
    public static void Write(RowWriter writer, ExpressionType type, Datum value, bool valuesAreText)
    {
        if (value.IsNull)
        {
            writer.Null();
            return;
        }

        switch (type)
        {
            case ExpressionType.Text or ExpressionType.Unknown or ExpressionType.Other:
                writer.Text(value.Text);
                break;
            case ExpressionType.Integer when !valuesAreText:
                writer.Integer(value.Integer);
                break;
            case ExpressionType.Boolean when !valuesAreText:
                writer.Integer(value.Truth ? 1 : 0);
                break;
            case ExpressionType.Real when !valuesAreText:
                writer.Real(value.Real);
                break;
            case ExpressionType.Bytes when !valuesAreText:
                writer.Value(ValueKind.Bytes, value.Bytes);
                break;
            case ExpressionType.Integer:
                Span<byte> digits = stackalloc byte[20];
                value.Integer.TryFormat(digits, out var written, default, CultureInfo.InvariantCulture);
                writer.Value(ValueKind.Text, digits[..written]);
                break;
            default:
                writer.Text(ValueText.Write(type, value)!);
                break;
        }
    }
}
