namespace Vestige.Core.Expressions;

/// <summary>The types that expressions reckon with. Every column's own type is one of them in the eyes of an expression.</summary>
public enum ExpressionType
{
    /// <summary>The type of a bare NULL, which fits wherever any type fits.</summary>
    Unknown,

    Boolean,

    /// <summary>64-bit signed; what does not fit is an error.</summary>
    Integer,

    /// <summary>Exact, of any number of digits, with NaN and the infinities.</summary>
    Decimal,

    /// <summary>IEEE 754 binary64.</summary>
    Real,

    /// <summary>Unicode text, ordered by code point.</summary>
    Text,

    Date,

    /// <summary>Date and time of day without a zone, to the microsecond.</summary>
    Timestamp,

    /// <summary>A moment, to the microsecond.</summary>
    Instant,

    Bytes,

    /// <summary>Any other type of a database: it can be NULL or not, and be taken as text.</summary>
    Other,
}
