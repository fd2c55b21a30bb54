using System.Buffers;
using System.Globalization;
using System.Text;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Reconciling;

namespace Vestige.Core.Types;

/// <summary>
/// Every value as its text, in the forms that PostgreSQL writes (manual, Data Types): t and f, dates by ISO 8601, bytes as hexadecimal
/// digits after <c>\x</c>.
/// </summary>
public sealed class TextEncoding : IRowEncoding
{
    private const int LongestInteger = 20;

    private TextEncoding() { }

    public static TextEncoding Instance { get; } = new();

    public IRowForm RowForm => TextForm.Instance;

    public bool HoldsAsText(LogicalType type) => true;

    public bool HasOneEncoding(LogicalType type) => true;

    public bool TryWrite(LogicalType type, Row row, int ordinal, IRowEncoding from, RowWriter into)
    {
        ArgumentNullException.ThrowIfNull(type);
        ArgumentNullException.ThrowIfNull(from);
        ArgumentNullException.ThrowIfNull(into);
        return (type.Kind, row.KindAt(ordinal)) switch
        {
            (LogicalKind.Integer or LogicalKind.Decimal or LogicalKind.Real, ValueKind.Integer) => Digits(row.IntegerAt(ordinal), into),
            (LogicalKind.Integer, ValueKind.Text) => RowValues.IsInteger(row, ordinal) && into.Copy(row, ordinal),
            (LogicalKind.Decimal, ValueKind.Real) => into.TryText(RowValues.DecimalOf(row, ordinal)),
            (LogicalKind.Decimal, ValueKind.Text) => ExactDecimal.Parse(row.TextAt(ordinal)) is not null && into.Copy(row, ordinal),
            (LogicalKind.Real, ValueKind.Real) => into.TryText(ValueText.Write(ExpressionType.Real, Datum.Of(row.RealAt(ordinal)))),
            (LogicalKind.Real, ValueKind.Text) => !ValueText.Read(ExpressionType.Real, row.TextAt(ordinal)).IsNull
                && into.Copy(row, ordinal),
            (LogicalKind.Boolean, _) => RowValues.TruthOf(row, ordinal) is { } truth && into.TryText(truth ? "t" : "f"),
            (LogicalKind.Date, ValueKind.Text) => CivilTime.ParseDate(row.TextAt(ordinal)) is { } days
                && CivilTime.FormatDate(days) == row.TextAt(ordinal)
                && into.Copy(row, ordinal),
            (LogicalKind.Timestamp, ValueKind.Text) => CivilTime.ParseTimestamp(row.TextAt(ordinal)) is { } time
                && into.TryText(CivilTime.FormatTimestamp(time)),
            (LogicalKind.Instant, ValueKind.Text) => CivilTime.ParseInstant(row.TextAt(ordinal)) is { } moment
                && into.TryText(CivilTime.FormatInstant(moment)),
            (LogicalKind.Bytes, ValueKind.Bytes) => Hexadecimal(row.ValueAt(ordinal), into),
            (LogicalKind.Bytes, ValueKind.Text) => from.HoldsAsText(type) && into.Copy(row, ordinal),
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
        }
        else if (type == ExpressionType.Integer)
        {
            Digits(value.Integer, into);
        }
        else
        {
            into.Text(ValueText.Write(type, value)!);
        }
    }

    public void WriteTyped(ExpressionType type, string text, RowWriter into)
    {
        ArgumentNullException.ThrowIfNull(into);
        into.Text(text);
    }

    private static bool Digits(long number, RowWriter into)
    {
        Span<byte> digits = stackalloc byte[LongestInteger];
        number.TryFormat(digits, out var written, default, CultureInfo.InvariantCulture);
        into.Value(ValueKind.Text, digits[..written]);
        return true;
    }

    private static bool Hexadecimal(ReadOnlySpan<byte> bytes, RowWriter into)
    {
        var length = 2 + (2 * bytes.Length);
        var rented = ArrayPool<char>.Shared.Rent(length);
        try
        {
            "\\x".CopyTo(rented);
            Convert.TryToHexStringLower(bytes, rented.AsSpan(2), out _);
            into.Value(ValueKind.Text, Encoding.ASCII.GetBytes(rented, 0, length));
        }
        finally
        {
            ArrayPool<char>.Shared.Return(rented);
        }

        return true;
    }
}
