namespace Vestige.Core.SchemaVersions;

/// <summary>How it is known that a table had a schema from a position on.</summary>
public enum VersionCertainty
{
    /// <summary>The log says it at that position, or a snapshot was read there.</summary>
    Exact,

    /// <summary>One change lies between two looks at the catalogue, so it is known what changed, and between which positions.</summary>
    Derived,

    /// <summary>
    /// More than one change may lie between two looks at the catalogue: what rows between them mean cannot be told for certain.
    /// </summary>
    Undecided,
}
