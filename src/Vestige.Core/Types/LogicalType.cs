using Vestige.Core.Expressions;

namespace Vestige.Core.Types;

/// <summary>
/// The type of a column between engines: each maps its declared types to it, and declares a column that holds every value of it. Values
/// are compared across engines by it. Immutable; two are equal exactly when they hold the same values.
/// </summary>
/// <param name="Kind">What the values are.</param>
public sealed record LogicalType(LogicalKind Kind)
{
    /// <summary>Bits of an <see cref="LogicalKind.Integer"/> (16, 32 or 64) or a <see cref="LogicalKind.Real"/> (32 or 64).</summary>
    public int Bits { get; init; } = 64;

    /// <summary>
    /// Of a <see cref="LogicalKind.Decimal"/>, its decimal digits in all, from 1; of a time, its digits of a second, 0 to 6. Null where it
    /// has as many as its engine knows.
    /// </summary>
    public int? Precision { get; init; }

    /// <summary>
    /// Of a <see cref="LogicalKind.Decimal"/>, its digits behind the point; negative where digits before it are rounded. Null with
    /// <see cref="Precision"/>.
    /// </summary>
    public int? Scale { get; init; }

    /// <summary>Characters of a <see cref="LogicalKind.Text"/> at most, from 1; null where there is no limit.</summary>
    public int? Length { get; init; }

    /// <summary>Whether blanks at the end of a <see cref="LogicalKind.Text"/> do not count.</summary>
    public bool Padded { get; init; }

    /// <summary>The type of the values of a <see cref="LogicalKind.List"/>; null for any other kind.</summary>
    public LogicalType? Element { get; init; }

    public static LogicalType Any { get; } = new(LogicalKind.Any);

    public static LogicalType Boolean { get; } = new(LogicalKind.Boolean);

    /// <summary>Of 64 bits.</summary>
    public static LogicalType Integer { get; } = new(LogicalKind.Integer);

    /// <summary>With any number of digits.</summary>
    public static LogicalType Decimal { get; } = new(LogicalKind.Decimal);

    /// <summary>IEEE 754 binary64.</summary>
    public static LogicalType Real { get; } = new(LogicalKind.Real);

    /// <summary>Of any length.</summary>
    public static LogicalType Text { get; } = new(LogicalKind.Text);

    public static LogicalType Bytes { get; } = new(LogicalKind.Bytes);

    public static LogicalType Date { get; } = new(LogicalKind.Date);

    public static LogicalType Time { get; } = new(LogicalKind.Time);

    public static LogicalType Timestamp { get; } = new(LogicalKind.Timestamp);

    public static LogicalType Instant { get; } = new(LogicalKind.Instant);

    public static LogicalType Uuid { get; } = new(LogicalKind.Uuid);

    public static LogicalType Json { get; } = new(LogicalKind.Json);

    public static LogicalType Opaque { get; } = new(LogicalKind.Opaque);

    /// <summary>Whether every text is a value of it as it is, so that none has another form for the same value.</summary>
    public bool IsPlainText => Kind == LogicalKind.Text && !Padded;

    /// <summary>As a person calls it.</summary>
    public string Word => Kind == LogicalKind.Json ? "json" : ColumnMeaning.Of(this).Type.Word();

    public static LogicalType ListOf(LogicalType element) => new(LogicalKind.List) { Element = element };

    /// <summary>The type of values that an expression made, or reckons with.</summary>
    public static LogicalType Of(ColumnMeaning meaning) =>
        meaning.Type switch
        {
            ExpressionType.Boolean => Boolean,
            ExpressionType.Integer => Integer,
            ExpressionType.Decimal => Decimal,
            ExpressionType.Real => meaning.Single ? Real with { Bits = 32 } : Real,
            ExpressionType.Date => Date,
            ExpressionType.Timestamp => Timestamp,
            ExpressionType.Instant => Instant,
            ExpressionType.Bytes => Bytes,
            ExpressionType.Other => Opaque,
            _ => Text with { Padded = meaning.Padded },
        };
}
