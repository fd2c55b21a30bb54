namespace Vestige.Core.Treatments;

/// <summary>How a value is kept from being seen. NULL stays NULL in all but <see cref="Fixed"/>.</summary>
public enum MaskMethod
{
    /// <summary>NULL in every row.</summary>
    Null,

    /// <summary>One text in every row.</summary>
    Fixed,

    /// <summary>HMAC-SHA-256 of the value's text under a key, as 64 hexadecimal digits.</summary>
    Hash,

    /// <summary>Stars for all but the last characters.</summary>
    KeepLast,

    /// <summary>Another day, some days before or after.</summary>
    ShiftDate,

    /// <summary>Something made up, the same for the same value.</summary>
    Pseudonym,
}
