namespace Vestige.Core.Types;

/// <summary>What the values of a column are, whichever engine holds them.</summary>
public enum LogicalKind
{
    /// <summary>A column that takes values of every kind side by side. No other engine has such a column.</summary>
    Any,

    Boolean,

    /// <summary>Whole numbers, signed.</summary>
    Integer,

    /// <summary>Exact numbers: equal as numbers, however many zeros they end in.</summary>
    Decimal,

    /// <summary>IEEE 754 numbers; both zeros are equal, and every NaN.</summary>
    Real,

    /// <summary>Unicode texts, to the byte of their UTF-8: another Unicode normal form is another text.</summary>
    Text,

    Bytes,

    Date,

    /// <summary>A time of day without a zone.</summary>
    Time,

    /// <summary>Date and time of day without a zone.</summary>
    Timestamp,

    /// <summary>A moment.</summary>
    Instant,

    /// <summary>128 bits as RFC 9562 has them, written as 36 characters.</summary>
    Uuid,

    /// <summary>JSON (RFC 8259).</summary>
    Json,

    /// <summary>Any number of values of one type, in order.</summary>
    List,

    /// <summary>Any other type of one engine, known to others by its text only.</summary>
    Opaque,
}
