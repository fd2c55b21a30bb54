using System.Buffers;
using System.Globalization;
using System.Text;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;

namespace Vestige.Core.Treatments;

/// <summary>
/// Writes the values of a column as the rows of another engine hold them: the same value, and where a key may be made of it, always the
/// same bytes for it. What is none of the column's type, or would be another value there, is refused. Safe for several threads.
/// </summary>
/// <param name="column">What the column is called, for messages.</param>
/// <param name="meaning">What its values are.</param>
/// <param name="fromText">Whether the rows that are read hold every value as text.</param>
/// <param name="intoText">Whether those that are written do.</param>
public sealed class ValueTranscriber(string column, ColumnMeaning meaning, bool fromText, bool intoText)
{
    private const int LongestInteger = 20;

    /// <summary>
    /// Whether values that are different as they are read stay different; not where one moment may be written in two ways.
    /// </summary>
    public bool KeepsApart => !(intoText && !fromText && meaning.Type is ExpressionType.Timestamp or ExpressionType.Instant);

    /// <summary>Whether a value can be written back to the same bytes, so that a key is the same row's on both sides.</summary>
    public bool GoesBack =>
        meaning
            is
        {
            Json: false,
            Type: ExpressionType.Integer
                    or ExpressionType.Text
                    or ExpressionType.Other
                    or ExpressionType.Boolean
                    or ExpressionType.Date
                    or ExpressionType.Bytes
        };

    /// <summary>The way back.</summary>
    public ValueTranscriber Back => new(column, meaning, intoText, fromText);

    /// <summary>Writes one value of a row. Throws <see cref="EvaluationException"/>.</summary>
    public void Write(Row row, int place, RowWriter writer)
    {
        ArgumentNullException.ThrowIfNull(writer);
        var kind = row.KindAt(place);
        if (kind is ValueKind.Null or ValueKind.Absent)
        {
            writer.Value(kind, []);
        }
        else if (!(intoText ? WriteText(row, place, kind, writer) : WriteValue(row, place, kind, writer)))
        {
            throw new EvaluationException(
                meaning.Type == ExpressionType.Real && IsNaN(row, place, kind)
                    ? $"{column} is NaN, which the target's engine takes for NULL"
                    : $"the value of {column} is not of the type {(meaning.Json ? "json" : meaning.Type.Word())}, as the target needs it"
            );
        }
    }

    private static bool IsNaN(Row row, int place, ValueKind kind) => kind == ValueKind.Text && row.ValueAt(place).SequenceEqual("NaN"u8);

    /// <summary>For an engine whose rows hold texts.</summary>
    private bool WriteText(Row row, int place, ValueKind kind, RowWriter writer) =>
        (meaning.Type, kind) switch
        {
            (ExpressionType.Integer or ExpressionType.Decimal or ExpressionType.Real, ValueKind.Integer) => Digits(
                row.IntegerAt(place),
                writer
            ),
            (ExpressionType.Integer, ValueKind.Text) => long.TryParse(
                row.ValueAt(place),
                NumberStyles.AllowLeadingSign,
                CultureInfo.InvariantCulture,
                out _
            ) && Same(row, place, writer),
            (ExpressionType.Decimal, ValueKind.Real) => Put(
                ExactDecimal.Parse(row.RealAt(place).ToString("R", CultureInfo.InvariantCulture))?.ToString(),
                writer
            ),
            (ExpressionType.Decimal, ValueKind.Text) => (fromText || ExactDecimal.Parse(row.TextAt(place)) is not null)
                && Same(row, place, writer),
            (ExpressionType.Real, ValueKind.Real) => Put(ValueText.Write(ExpressionType.Real, Datum.Of(row.RealAt(place))), writer),
            (ExpressionType.Real, ValueKind.Text) => !ValueText.Read(ExpressionType.Real, row.TextAt(place)).IsNull
                && Same(row, place, writer),
            (ExpressionType.Boolean, _) => Truth(row, place, kind) is { } truth && Put(truth ? "t" : "f", writer),
            (ExpressionType.Date, ValueKind.Text) => CivilTime.ParseDate(row.TextAt(place)) is { } days
                && CivilTime.FormatDate(days) == row.TextAt(place)
                && Same(row, place, writer),
            (ExpressionType.Timestamp, ValueKind.Text) => CivilTime.ParseTimestamp(row.TextAt(place)) is { } time
                && Put(CivilTime.FormatTimestamp(time), writer),
            (ExpressionType.Instant, ValueKind.Text) => CivilTime.ParseInstant(row.TextAt(place)) is { } moment
                && Put(CivilTime.FormatInstant(moment), writer),
            (ExpressionType.Bytes, ValueKind.Bytes) => Hexadecimal(row.ValueAt(place), writer),
            (ExpressionType.Bytes, ValueKind.Text) => fromText && Same(row, place, writer),
            (_, ValueKind.Text) => Same(row, place, writer),
            _ => meaning.Json && kind is not ValueKind.Bytes && Put(row.DisplayAt(place), writer),
        };

    /// <summary>For an engine whose rows hold numbers and bytes as such; exact numbers that are not whole are texts there.</summary>
    private bool WriteValue(Row row, int place, ValueKind kind, RowWriter writer) =>
        (meaning.Type, kind) switch
        {
            (ExpressionType.Integer, ValueKind.Text) => long.TryParse(
                row.ValueAt(place),
                NumberStyles.AllowLeadingSign,
                CultureInfo.InvariantCulture,
                out var whole
            ) && Number(whole, writer),
            (ExpressionType.Boolean, _) => Truth(row, place, kind) is { } truth && Number(truth ? 1 : 0, writer),
            (ExpressionType.Real, ValueKind.Text) => ValueText.Read(ExpressionType.Real, row.TextAt(place))
                is { IsNull: false, Real: var real }
                && !double.IsNaN(real)
                && Number(real, writer),
            (ExpressionType.Bytes, ValueKind.Text) => ValueText.Read(ExpressionType.Bytes, row.TextAt(place)) is { IsNull: false } bytes
                && Bytes(bytes.Bytes, writer),
            (ExpressionType.Decimal, ValueKind.Integer or ValueKind.Real) => Put(
                ExactDecimal.Parse(row.DisplayAt(place))?.ToString(),
                writer
            ),
            (_, ValueKind.Text) => Same(row, place, writer),


            (ExpressionType.Integer or ExpressionType.Real, ValueKind.Integer)
            or
            (ExpressionType.Real, ValueKind.Real)
            or (ExpressionType.Bytes, ValueKind.Bytes) => Same(row, place, writer),
            _ => meaning.Json && kind is not ValueKind.Bytes && Put(row.DisplayAt(place), writer),
        };

    private static bool? Truth(Row row, int place, ValueKind kind) =>
        kind switch
        {
            ValueKind.Integer when row.IntegerAt(place) is 0 or 1 => row.IntegerAt(place) == 1,
            ValueKind.Text when ValueText.Read(ExpressionType.Boolean, row.TextAt(place)) is { IsNull: false } truth => truth.Truth,
            _ => null,
        };

    private static bool Same(Row row, int place, RowWriter writer)
    {
        writer.Value(row.KindAt(place), row.ValueAt(place));
        return true;
    }

    private static bool Digits(long number, RowWriter writer)
    {
        Span<byte> digits = stackalloc byte[LongestInteger];
        number.TryFormat(digits, out var written, default, CultureInfo.InvariantCulture);
        writer.Value(ValueKind.Text, digits[..written]);
        return true;
    }

    private static bool Put(string? text, RowWriter writer)
    {
        if (text is null)
        {
            return false;
        }

        writer.Text(text);
        return true;
    }

    private static bool Number(long number, RowWriter writer)
    {
        writer.Integer(number);
        return true;
    }

    private static bool Number(double number, RowWriter writer)
    {
        writer.Real(number);
        return true;
    }

    private static bool Bytes(byte[] bytes, RowWriter writer)
    {
        writer.Value(ValueKind.Bytes, bytes);
        return true;
    }

    private static bool Hexadecimal(ReadOnlySpan<byte> bytes, RowWriter writer)
    {
        var length = 2 + (2 * bytes.Length);
        var rented = ArrayPool<char>.Shared.Rent(length);
        try
        {
            "\\x".CopyTo(rented);
            Convert.TryToHexStringLower(bytes, rented.AsSpan(2), out _);
            writer.Value(ValueKind.Text, Encoding.ASCII.GetBytes(rented, 0, length));
        }
        finally
        {
            ArrayPool<char>.Shared.Return(rented);
        }

        return true;
    }
}
