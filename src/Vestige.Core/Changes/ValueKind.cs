namespace Vestige.Core.Changes;

/// <summary>How one value is held in a <see cref="Row"/>.</summary>
public enum ValueKind : byte
{
    Null = 0,

    /// <summary>The log did not carry the value because it did not change; never the same as NULL.</summary>
    Absent = 1,

    /// <summary>64-bit signed, little-endian.</summary>
    Integer = 2,

    /// <summary>IEEE 754 binary64, little-endian.</summary>
    Real = 3,

    /// <summary>UTF-8.</summary>
    Text = 4,

    Bytes = 5,
}
