namespace Vestige.Core.Expressions;

/// <summary>One value within an expression, NULL included. Which of its sides holds the value follows from the expression's type.</summary>
public readonly struct Datum : IEquatable<Datum>
{
    private readonly object? thing;
    private readonly long bits;

    private Datum(long bits, object? thing)
    {
        this.bits = bits;
        this.thing = thing;
        HasValue = true;
    }

    public static Datum Null => default;

    public bool HasValue { get; }

    public bool IsNull => !HasValue;

    /// <summary>Of integers; of dates in days, of times in microseconds, both since 1970-01-01, the infinities at the ends.</summary>
    public long Integer => bits;

    public bool Truth => bits != 0;

    public double Real => BitConverter.Int64BitsToDouble(bits);

    /// <summary>Of texts, and of the types that are only known as text.</summary>
    public string Text => (string)thing!;

    public byte[] Bytes => (byte[])thing!;

    public ExactDecimal Decimal => (ExactDecimal)thing!;

    public static Datum Of(bool value) => new(value ? 1 : 0, null);

    public static Datum Of(long value) => new(value, null);

    public static Datum Of(double value) => new(BitConverter.DoubleToInt64Bits(value), null);

    public static Datum Of(string value) => new(0, value);

    public static Datum Of(byte[] value) => new(0, value);

    public static Datum Of(ExactDecimal value) => new(0, value);

    public bool Equals(Datum other) => HasValue == other.HasValue && bits == other.bits && Equals(thing, other.thing);

    public override bool Equals(object? obj) => obj is Datum other && Equals(other);

    public override int GetHashCode() => HashCode.Combine(HasValue, bits, thing);

    public static bool operator ==(Datum left, Datum right) => left.Equals(right);

    public static bool operator !=(Datum left, Datum right) => !left.Equals(right);
}
