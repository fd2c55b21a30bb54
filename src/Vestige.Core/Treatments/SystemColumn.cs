namespace Vestige.Core.Treatments;

/// <summary>What a column says about how its row was last changed.</summary>
public enum SystemColumn
{
    /// <summary>Nothing: it holds a value of the row.</summary>
    None,

    /// <summary>By which operation.</summary>
    Operation,

    /// <summary>When it was committed at the source.</summary>
    CommittedAt,

    /// <summary>When it was deleted at the source; NULL while it is there.</summary>
    DeletedAt,

    /// <summary>Since when this version holds; NULL for a row of a load.</summary>
    ValidFrom,

    /// <summary>Up to when it held; infinity for the present one. Part of the key.</summary>
    ValidTo,
}
