using System.Globalization;
using System.Numerics;

namespace Vestige.Core.Expressions;

/// <summary>
/// A decimal number of any size: an integer over a power of ten, or one of the special values that exact types of databases
/// know. NaN equals itself and is greater than everything, as the order of rows needs. Immutable.
/// </summary>
public sealed class ExactDecimal : IComparable<ExactDecimal>, IEquatable<ExactDecimal>
{
    private const int MostDigits = 150_000;
    private const int SignificantDigits = 16;
    private const int LargestQuotientScale = 1000;
    private readonly Special special;

    public ExactDecimal(BigInteger unscaled, int scale)
    {
        ArgumentOutOfRangeException.ThrowIfNegative(scale);
        Unscaled = unscaled;
        Scale = scale;
    }

    private ExactDecimal(Special special) => this.special = special;

    private enum Special
    {
        NegativeInfinity = -1,
        Finite = 0,
        Infinity = 1,
        NotANumber = 2,
    }

    public static ExactDecimal NaN { get; } = new(Special.NotANumber);

    public static ExactDecimal Infinity { get; } = new(Special.Infinity);

    public static ExactDecimal NegativeInfinity { get; } = new(Special.NegativeInfinity);

    /// <summary>The number without its point.</summary>
    public BigInteger Unscaled { get; }

    /// <summary>Digits after the point.</summary>
    public int Scale { get; }

    public bool IsFinite => special == Special.Finite;

    public int Sign =>
        special switch
        {
            Special.Finite => Unscaled.Sign,
            Special.NegativeInfinity => -1,
            _ => 1,
        };

    public static ExactDecimal Of(long value) => new(value, 0);

    /// <summary>Reads <c>-12.50</c>, <c>1.5e3</c>, <c>NaN</c>, <c>Infinity</c>; null for anything else.</summary>
    public static ExactDecimal? Parse(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        switch (text)
        {
            case "NaN":
                return NaN;
            case "Infinity":
                return Infinity;
            case "-Infinity":
                return NegativeInfinity;
        }

        var (digits, exponent) = (text, 0);
        var e = text.IndexOfAny(['e', 'E']);
        if (e >= 0)
        {
            digits = text[..e];
            if (
                !int.TryParse(text[(e + 1)..], NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out exponent)
                || Math.Abs(exponent) > MostDigits
            )
            {
                return null;
            }
        }

        var point = digits.IndexOf('.', StringComparison.Ordinal);
        var scale = point < 0 ? 0 : digits.Length - point - 1;
        var joined = point < 0 ? digits : digits.Remove(point, 1);
        if (
            joined.Length > MostDigits
            || !joined.Any(char.IsAsciiDigit)
            || !BigInteger.TryParse(joined, NumberStyles.AllowLeadingSign, CultureInfo.InvariantCulture, out var unscaled)
        )
        {
            return null;
        }

        return scale >= exponent
            ? new ExactDecimal(unscaled, scale - exponent)
            : new ExactDecimal(unscaled * BigInteger.Pow(10, exponent - scale), 0);
    }

    public static ExactDecimal operator +(ExactDecimal left, ExactDecimal right)
    {
        if (!left.IsFinite || !right.IsFinite)
        {
            return left.IsFinite ? right
                : right.IsFinite ? left
                : left.special == right.special ? left
                : NaN;
        }

        var scale = Math.Max(left.Scale, right.Scale);
        return new ExactDecimal(left.At(scale) + right.At(scale), scale);
    }

    public static ExactDecimal operator -(ExactDecimal left, ExactDecimal right) => left + -right;

    public static ExactDecimal operator -(ExactDecimal value) =>
        value.special switch
        {
            Special.Finite => new ExactDecimal(-value.Unscaled, value.Scale),
            Special.Infinity => NegativeInfinity,
            Special.NegativeInfinity => Infinity,
            _ => NaN,
        };

    public static ExactDecimal operator *(ExactDecimal left, ExactDecimal right)
    {
        if (left.IsFinite && right.IsFinite)
        {
            return new ExactDecimal(left.Unscaled * right.Unscaled, left.Scale + right.Scale);
        }

        return left.special == Special.NotANumber || right.special == Special.NotANumber ? NaN : SignedInfinity(left.Sign * right.Sign);
    }

    /// <summary>
    /// The quotient, rounded half away from zero, to as many digits that at least sixteen of them count and to no fewer than
    /// either number has behind its point. Throws <see cref="DivideByZeroException"/>.
    /// </summary>
    public static ExactDecimal operator /(ExactDecimal left, ExactDecimal right)
    {
        if (left.special == Special.NotANumber || right.special == Special.NotANumber)
        {
            return NaN;
        }

        if (right is { IsFinite: true, Unscaled.IsZero: true })
        {
            throw new DivideByZeroException();
        }

        if (!left.IsFinite)
        {
            return right.IsFinite ? SignedInfinity(left.Sign * right.Sign) : NaN;
        }

        if (!right.IsFinite)
        {
            return Of(0);
        }

        var scale = QuotientScale(left, right);
        var shift = scale + right.Scale - left.Scale;
        var (numerator, denominator) =
            shift >= 0
                ? (left.Unscaled * BigInteger.Pow(10, shift), right.Unscaled)
                : (left.Unscaled, right.Unscaled * BigInteger.Pow(10, -shift));
        return new ExactDecimal(DivideRounded(numerator, denominator), scale);
    }

    /// <summary>
    /// What is left of the truncated quotient; it has the sign of the dividend. Throws <see cref="DivideByZeroException"/>.
    /// </summary>
    public static ExactDecimal operator %(ExactDecimal left, ExactDecimal right)
    {
        if (left.special == Special.NotANumber || right.special == Special.NotANumber || !left.IsFinite)
        {
            return NaN;
        }

        if (right is { IsFinite: true, Unscaled.IsZero: true })
        {
            throw new DivideByZeroException();
        }

        if (!right.IsFinite)
        {
            return left;
        }

        var scale = Math.Max(left.Scale, right.Scale);
        return new ExactDecimal(BigInteger.Remainder(left.At(scale), right.At(scale)), scale);
    }

    /// <summary>Rounds half away from zero to that many digits after the point; a negative number rounds before it.</summary>
    public ExactDecimal Round(int digits)
    {
        if (!IsFinite || digits >= Scale)
        {
            return !IsFinite || digits == Scale ? this : new ExactDecimal(At(digits), digits);
        }

        var rounded = DivideRounded(Unscaled, BigInteger.Pow(10, Scale - digits));
        return digits >= 0 ? new ExactDecimal(rounded, digits) : new ExactDecimal(rounded * BigInteger.Pow(10, -digits), 0);
    }

    /// <summary>The largest whole number not above it.</summary>
    public ExactDecimal Floor()
    {
        if (!IsFinite)
        {
            return this;
        }

        var whole = BigInteger.DivRem(Unscaled, BigInteger.Pow(10, Scale), out var rest);
        return new ExactDecimal(rest.Sign < 0 ? whole - 1 : whole, 0);
    }

    public double ToDouble() =>
        special switch
        {
            Special.NotANumber => double.NaN,
            Special.Infinity => double.PositiveInfinity,
            Special.NegativeInfinity => double.NegativeInfinity,
            _ => double.Parse(ToString(), CultureInfo.InvariantCulture),
        };

    /// <summary>The nearest whole number, halves away from zero; null when it is not one of 64 bits.</summary>
    public long? ToInteger()
    {
        if (!IsFinite)
        {
            return null;
        }

        var whole = Round(0).Unscaled;
        return whole >= long.MinValue && whole <= long.MaxValue ? (long)whole : null;
    }

    public int CompareTo(ExactDecimal? other)
    {
        ArgumentNullException.ThrowIfNull(other);
        if (!IsFinite || !other.IsFinite)
        {
            return ((int)special).CompareTo((int)other.special);
        }

        return Scale == other.Scale
            ? Unscaled.CompareTo(other.Unscaled)
            : At(Math.Max(Scale, other.Scale)).CompareTo(other.At(Math.Max(Scale, other.Scale)));
    }

    /// <summary>Equality as numbers: 1.0 equals 1.00.</summary>
    public bool Equals(ExactDecimal? other) => other is not null && CompareTo(other) == 0;

    public override bool Equals(object? obj) => Equals(obj as ExactDecimal);

    public override int GetHashCode() => ToDouble().GetHashCode();

    public override string ToString()
    {
        if (!IsFinite)
        {
            return special switch
            {
                Special.Infinity => "Infinity",
                Special.NegativeInfinity => "-Infinity",
                _ => "NaN",
            };
        }

        var digits = BigInteger.Abs(Unscaled).ToString(CultureInfo.InvariantCulture);
        if (Scale > 0)
        {
            digits = digits.PadLeft(Scale + 1, '0');
            digits = $"{digits[..^Scale]}.{digits[^Scale..]}";
        }

        return Unscaled.Sign < 0 ? $"-{digits}" : digits;
    }

    public static bool operator ==(ExactDecimal? left, ExactDecimal? right) => left is null ? right is null : left.Equals(right);

    public static bool operator !=(ExactDecimal? left, ExactDecimal? right) => !(left == right);

    public static bool operator <(ExactDecimal left, ExactDecimal right) => Required(left).CompareTo(right) < 0;

    public static bool operator >(ExactDecimal left, ExactDecimal right) => Required(left).CompareTo(right) > 0;

    public static bool operator <=(ExactDecimal left, ExactDecimal right) => Required(left).CompareTo(right) <= 0;

    public static bool operator >=(ExactDecimal left, ExactDecimal right) => Required(left).CompareTo(right) >= 0;

    private static ExactDecimal Required(ExactDecimal? value) => value ?? throw new ArgumentNullException(nameof(value));

    private static ExactDecimal SignedInfinity(int sign) =>
        sign switch
        {
            0 => NaN,
            > 0 => Infinity,
            _ => NegativeInfinity,
        };

    private BigInteger At(int scale) => scale == Scale ? Unscaled : Unscaled * BigInteger.Pow(10, scale - Scale);

    private static BigInteger DivideRounded(BigInteger numerator, BigInteger denominator)
    {
        var quotient = BigInteger.DivRem(numerator, denominator, out var rest);
        return BigInteger.Abs(rest) * 2 >= BigInteger.Abs(denominator) ? quotient + (numerator.Sign * denominator.Sign) : quotient;
    }

    /// <summary>
    /// The rule of PostgreSQL's numeric, which reckons in groups of four digits: the quotient's size is estimated from the
    /// first group of each number (numeric.c, select_div_scale; from memory, held against the server by a test).
    /// </summary>
    private static int QuotientScale(ExactDecimal left, ExactDecimal right)
    {
        var (leftWeight, leftFirst) = FirstGroup(left);
        var (rightWeight, rightFirst) = FirstGroup(right);
        var weight = leftWeight - rightWeight - (leftFirst <= rightFirst ? 1 : 0);
        return Math.Min(Math.Max(Math.Max(SignificantDigits - (weight * 4), 0), Math.Max(left.Scale, right.Scale)), LargestQuotientScale);
    }

    private static (int Weight, int First) FirstGroup(ExactDecimal value)
    {
        if (value.Unscaled.IsZero)
        {
            return (0, 0);
        }

        var digits = BigInteger.Abs(value.Unscaled).ToString(CultureInfo.InvariantCulture);
        var before = digits.Length - value.Scale; // Digits before the point, negative where zeros follow it.
        var weight = (int)Math.Floor((before - 1) / 4.0);
        var inFirst = before - (weight * 4);
        var first = digits.Length >= inFirst ? digits[..inFirst] : digits.PadRight(inFirst, '0');
        return (weight, int.Parse(first, CultureInfo.InvariantCulture));
    }
}
