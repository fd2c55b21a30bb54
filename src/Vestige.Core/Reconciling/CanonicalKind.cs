namespace Vestige.Core.Reconciling;

/// <summary>As what values of two columns are compared.</summary>
public enum CanonicalKind
{
    /// <summary>Truth values.</summary>
    Boolean,

    /// <summary>Exact numbers: equal as numbers, however many zeros they end in.</summary>
    Decimal,

    /// <summary>IEEE 754 binary64; both zeros are equal, and every NaN.</summary>
    Real,

    /// <summary>IEEE 754 binary32, as above.</summary>
    Single,

    /// <summary>Texts, to the byte of their UTF-8: another Unicode normal form is another text.</summary>
    Text,

    /// <summary>Texts of fixed length, without the blanks at their end.</summary>
    Padded,

    Date,

    /// <summary>Times in microseconds, of UTC where they have no zone.</summary>
    Moment,

    Bytes,

    /// <summary>JSON with its keys sorted and numbers exact.</summary>
    Json,
}
