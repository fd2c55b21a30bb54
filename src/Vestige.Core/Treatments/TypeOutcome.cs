namespace Vestige.Core.Treatments;

/// <summary>How values fare in a column of another type.</summary>
public enum TypeOutcome
{
    /// <summary>Each fits and means the same.</summary>
    Keeps,

    /// <summary>One that does not fit is refused; none is changed.</summary>
    MayRefuse,

    /// <summary>The database changes some without a word.</summary>
    MayChange,

    /// <summary>No value of the one is one of the other.</summary>
    Impossible,
}
