using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Reconciling;

namespace Vestige.Core.Types;

/// <summary>
/// Whole numbers, binary64 and bytes as such, truth as 1 and 0, and all other values as texts; exact numbers that are not whole are texts
/// as well. There is no NaN.
/// </summary>
public sealed class KindEncoding : IRowEncoding
{
    private KindEncoding() { }

    public static KindEncoding Instance { get; } = new();

    public IRowForm RowForm => KindForm.Instance;

    public bool HoldsAsText(LogicalType type)
    {
        ArgumentNullException.ThrowIfNull(type);
        return type.Kind is not (LogicalKind.Boolean or LogicalKind.Integer or LogicalKind.Real or LogicalKind.Bytes);
    }

    /// <summary>One moment may stand in several texts, since nothing keeps whoever writes rows to one of them.</summary>
    public bool HasOneEncoding(LogicalType type)
    {
        ArgumentNullException.ThrowIfNull(type);
        return type.Kind is not (LogicalKind.Timestamp or LogicalKind.Instant);
    }

    public bool TryWrite(LogicalType type, Row row, int ordinal, IRowEncoding from, RowWriter into)
    {
        ArgumentNullException.ThrowIfNull(type);
        ArgumentNullException.ThrowIfNull(into);
        return (type.Kind, row.KindAt(ordinal)) switch
        {
            (LogicalKind.Integer, ValueKind.Text) => RowValues.IntegerOf(row, ordinal) is { } whole && Number(whole, into),
            (LogicalKind.Boolean, _) => RowValues.TruthOf(row, ordinal) is { } truth && Number(truth ? 1 : 0, into),
            (LogicalKind.Real, ValueKind.Text) => ValueText.Read(ExpressionType.Real, row.TextAt(ordinal))
                is { IsNull: false, Real: var real }
                && !double.IsNaN(real)
                && Number(real, into),
            (LogicalKind.Bytes, ValueKind.Text) => ValueText.Read(ExpressionType.Bytes, row.TextAt(ordinal)) is { IsNull: false } bytes
                && Bytes(bytes.Bytes, into),
            (LogicalKind.Decimal, ValueKind.Integer or ValueKind.Real) => into.TryText(RowValues.DecimalOf(row, ordinal)),


            (LogicalKind.Integer or LogicalKind.Real, ValueKind.Integer)
            or
            (LogicalKind.Real, ValueKind.Real)
            or (LogicalKind.Bytes, ValueKind.Bytes) => into.Copy(row, ordinal),
            (LogicalKind.Json, not ValueKind.Text and not ValueKind.Bytes) => into.TryText(row.DisplayAt(ordinal)),
            (_, ValueKind.Text) => into.Copy(row, ordinal),
            _ => false,
        };
    }

    public void Write(ExpressionType type, Datum value, RowWriter into)
    {
        ArgumentNullException.ThrowIfNull(into);
        if (value.IsNull)
        {
            into.Null();
            return;
        }

        switch (type)
        {
            case ExpressionType.Integer:
                into.Integer(value.Integer);
                break;
            case ExpressionType.Boolean:
                into.Integer(value.Truth ? 1 : 0);
                break;
            case ExpressionType.Real:
                into.Real(value.Real);
                break;
            case ExpressionType.Bytes:
                into.Value(ValueKind.Bytes, value.Bytes);
                break;
            default:
                into.Text(ValueText.Write(type, value)!);
                break;
        }
    }

    public void WriteTyped(ExpressionType type, string text, RowWriter into)
    {
        ArgumentNullException.ThrowIfNull(into);
        if (type == ExpressionType.Integer && long.TryParse(text, out var whole))
        {
            into.Integer(whole);
        }
        else
        {
            into.Text(text);
        }
    }

    private static bool Number(long number, RowWriter into)
    {
        into.Integer(number);
        return true;
    }

    private static bool Number(double number, RowWriter into)
    {
        into.Real(number);
        return true;
    }

    private static bool Bytes(byte[] bytes, RowWriter into)
    {
        into.Value(ValueKind.Bytes, bytes);
        return true;
    }
}
