using System.Buffers;
using System.Buffers.Binary;
using System.Globalization;
using System.Text;
using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Types;

namespace Vestige.Core.Reconciling;

/// <summary>
/// Values in one form for databases of two engines, so that what is equal by its logical type gets the same bytes whichever side writes it:
/// each led by whether it is NULL, of its column's type, or of none, and by its length. Times are compared in microseconds, of UTC where
/// they have no zone; JSON with its keys sorted and numbers exact; what is only known by its text, by that. Not safe for several threads.
/// </summary>
/// <param name="columns">What the columns of the rows of this side hold, in their order.</param>
public sealed class CanonicalForm(IReadOnlyList<LogicalType> columns) : IRowForm
{
    private const byte Null = 0;
    private const byte Value = 1;
    private const byte Foreign = 2;
    private const int HeadSize = 5;
    private static readonly SearchValues<byte> Digits = SearchValues.Create("0123456789."u8);
    private readonly LogicalKind[] kinds = [.. columns.Select(ComparedAs)];
    private readonly ArrayBufferWriter<byte> made = new(256);

    public void Write(Row row, IReadOnlyList<int> columns, IBufferWriter<byte> into)
    {
        ArgumentNullException.ThrowIfNull(columns);
        ArgumentNullException.ThrowIfNull(into);
        foreach (var column in columns)
        {
            var kind = row.KindAt(column);
            if (kind == ValueKind.Null)
            {
                into.GetSpan(1)[0] = Null;
                into.Advance(1);
            }
            else if (!WriteAtOnce(row, column, kind, into))
            {
                made.ResetWrittenCount();
                var known = TryWrite(row, column);
                if (!known)
                {
                    // An engine that lets any value stand in any column may hold one that is none of its type.
                    made.ResetWrittenCount();
                    Put(row.DisplayAt(column));
                }

                Lead(known ? Value : Foreign, made.WrittenCount, into);
                into.Write(made.WrittenSpan);
            }
        }
    }

    /// <summary>
    /// Of the kinds whose values are equal to those of another by one rule, that other; text for what is known by its text only.
    /// </summary>
    private static LogicalKind ComparedAs(LogicalType type) =>
        type.Kind switch
        {
            LogicalKind.Integer => LogicalKind.Decimal,
            LogicalKind.Timestamp => LogicalKind.Instant,
            LogicalKind.Any or LogicalKind.Time or LogicalKind.Uuid or LogicalKind.List or LogicalKind.Opaque => LogicalKind.Text,
            _ => type.Kind,
        };

    /// <summary>What nearly all values are, without making them first. False, with nothing written, for any other.</summary>
    private bool WriteAtOnce(Row row, int ordinal, ValueKind kind, IBufferWriter<byte> into)
    {
        switch ((kinds[ordinal], kind))
        {
            case (LogicalKind.Text, ValueKind.Text) when columns[ordinal].Padded:
                return Put(row.ValueAt(ordinal).TrimEnd((byte)' '), into);
            case (LogicalKind.Text, ValueKind.Text) or (LogicalKind.Bytes, ValueKind.Bytes):
                return Put(row.ValueAt(ordinal), into);
            case (LogicalKind.Decimal, ValueKind.Integer):
                return Put(row.IntegerAt(ordinal), into);
            case (LogicalKind.Decimal, ValueKind.Text) when TryPlain(row.ValueAt(ordinal), out var isNegative, out var digits):
                Lead(Value, digits.Length + (isNegative ? 1 : 0), into);
                into.Write(isNegative ? "-"u8 : default);
                into.Write(digits);
                return true;
            case (LogicalKind.Date, ValueKind.Text) when PlainDate(row.ValueAt(ordinal)) is { } days:
                return Put(days, into);
            default:
                return false;
        }
    }

    private static void Lead(byte kind, int length, IBufferWriter<byte> into)
    {
        var head = into.GetSpan(HeadSize);
        head[0] = kind;
        BinaryPrimitives.WriteInt32LittleEndian(head[1..], length);
        into.Advance(HeadSize);
    }

    private static bool Put(ReadOnlySpan<byte> value, IBufferWriter<byte> into)
    {
        Lead(Value, value.Length, into);
        into.Write(value);
        return true;
    }

    private static bool Put(long number, IBufferWriter<byte> into)
    {
        var span = into.GetSpan(HeadSize + 20);
        number.TryFormat(span[HeadSize..], out var written, default, CultureInfo.InvariantCulture);
        span[0] = Value;
        BinaryPrimitives.WriteInt32LittleEndian(span[1..], written);
        into.Advance(HeadSize + written);
        return true;
    }

    private bool TryWrite(Row row, int ordinal) =>
        (kinds[ordinal], row.KindAt(ordinal)) switch
        {
            (LogicalKind.Boolean, _) => Boolean(row, ordinal),
            (LogicalKind.Decimal, ValueKind.Text) => Decimal(ExactDecimal.Parse(row.TextAt(ordinal))),
            (LogicalKind.Decimal, ValueKind.Real) => Shortened(row.RealAt(ordinal))
                || Decimal(ExactDecimal.Parse(row.RealAt(ordinal).ToString("R", CultureInfo.InvariantCulture))),
            (LogicalKind.Real, _) => Real(row, ordinal),
            (LogicalKind.Text, ValueKind.Integer) => Put(row.DisplayAt(ordinal)),
            (LogicalKind.Date, ValueKind.Text) => Whole(CivilTime.ParseDate(row.TextAt(ordinal))),
            (LogicalKind.Instant, ValueKind.Text) => Whole(
                CivilTime.ParseInstant(row.TextAt(ordinal)) ?? CivilTime.ParseTimestamp(row.TextAt(ordinal))
            ),
            (LogicalKind.Bytes, ValueKind.Text) => Hexadecimal(row.ValueAt(ordinal)),
            (LogicalKind.Json, ValueKind.Text) => CanonicalJson.TryWrite(row.ValueAt(ordinal), made),
            _ => false,
        };

    private bool Boolean(Row row, int ordinal) =>
        row.KindAt(ordinal) switch
        {
            ValueKind.Integer when row.IntegerAt(ordinal) is 0 or 1 => Put(row.IntegerAt(ordinal) == 1 ? "t" : "f"),
            ValueKind.Text when ValueText.Read(ExpressionType.Boolean, row.TextAt(ordinal)) is { IsNull: false } truth => Put(
                truth.Truth ? "t" : "f"
            ),
            _ => false,
        };

    /// <summary>The digits without zeros at the end; those before the point stay.</summary>
    private bool Decimal(ExactDecimal? number)
    {
        if (number is null)
        {
            return false;
        }

        var text = number.ToString();
        return Put(
            text.Contains('.', StringComparison.Ordinal)
                ? text.TrimEnd('0').TrimEnd('.') is "-0"
                    ? "0"
                    : text.TrimEnd('0').TrimEnd('.')
                : text
        );
    }

    private bool Real(Row row, int ordinal)
    {
        double? number = row.KindAt(ordinal) switch
        {
            ValueKind.Real => row.RealAt(ordinal),
            ValueKind.Integer => row.IntegerAt(ordinal),
            ValueKind.Text => ValueText.Read(ExpressionType.Real, row.TextAt(ordinal)) is { IsNull: false } read ? read.Real : null,
            _ => null,
        };
        if (number is not { } real)
        {
            return false;
        }

        var narrow = columns[ordinal].Bits == 32;
        return Put(
            double.IsNaN(real) ? "NaN"
            : real == 0 ? "0"
            : narrow ? ((float)real).ToString("R", CultureInfo.InvariantCulture)
            : real.ToString("R", CultureInfo.InvariantCulture)
        );
    }

    private bool Whole(long? number)
    {
        if (number is not { } whole)
        {
            return false;
        }

        whole.TryFormat(made.GetSpan(20), out var written, default, CultureInfo.InvariantCulture);
        return Claimed(written);
    }

    /// <summary>
    /// A number that is written as digits with at most one point, as nearly all are: without zeros at its ends. False for any other.
    /// </summary>
    private static bool TryPlain(ReadOnlySpan<byte> text, out bool isNegative, out ReadOnlySpan<byte> digits)
    {
        isNegative = text.StartsWith("-"u8);
        digits = isNegative ? text[1..] : text;
        var point = digits.IndexOf((byte)'.');
        if (
            digits.IsEmpty
            || point == 0
            || point == digits.Length - 1
            || digits.ContainsAnyExcept(Digits)
            || (point >= 0 && digits[(point + 1)..].Contains((byte)'.'))
        )
        {
            return false;
        }

        digits = point < 0 ? digits : digits.TrimEnd((byte)'0').TrimEnd((byte)'.');
        var first = 0;
        while (first < digits.Length - 1 && digits[first] == '0' && digits[first + 1] != '.')
        {
            first++;
        }

        digits = digits[first..];
        isNegative &= !digits.SequenceEqual("0"u8);
        return true;
    }

    /// <summary>The days of a date written as year, month and day of four, two and two digits; null for any other.</summary>
    private static long? PlainDate(ReadOnlySpan<byte> text) =>
        text.Length == 10
        && text[4] == '-'
        && text[7] == '-'
        && int.TryParse(text[..4], NumberStyles.None, CultureInfo.InvariantCulture, out var year)
        && int.TryParse(text[5..7], NumberStyles.None, CultureInfo.InvariantCulture, out var month)
        && int.TryParse(text[8..], NumberStyles.None, CultureInfo.InvariantCulture, out var day)
        && month is >= 1 and <= 12
        && day >= 1
        && year >= 1
        && day <= DateTime.DaysInMonth(year, month)
            ? CivilTime.DaysOf(year, month, day)
            : null;

    /// <summary>The shortest digits that give the number again, where they have no exponent.</summary>
    private bool Shortened(double number)
    {
        Span<byte> text = stackalloc byte[32];
        number.TryFormat(text, out var written, "R", CultureInfo.InvariantCulture);
        return TryPlain(text[..written], out var isNegative, out var digits) && Put(isNegative ? "-"u8 : default) && Put(digits);
    }

    private bool Hexadecimal(ReadOnlySpan<byte> text) =>
        text.StartsWith("\\x"u8)
        && text.Length % 2 == 0
        && Convert.FromHexString(text[2..], made.GetSpan(text.Length), out _, out var written) == OperationStatus.Done
        && Claimed(written);

    private bool Claimed(int written)
    {
        made.Advance(written);
        return true;
    }

    private bool Put(ReadOnlySpan<byte> bytes)
    {
        made.Write(bytes);
        return true;
    }

    private bool Put(string text)
    {
        Encoding.UTF8.GetBytes(text, made);
        return true;
    }
}
