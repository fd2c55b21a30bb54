namespace Vestige.Core.Treatments;

/// <summary>What a pseudonym looks like.</summary>
public enum PseudonymKind
{
    /// <summary>Sixteen letters and digits: 80 bits, so that two values hardly ever meet in one.</summary>
    Code,

    /// <summary>A given and a family name out of short lists; different values often get the same.</summary>
    Name,

    /// <summary>An address at a domain that there is not (RFC 2606), with a code before it.</summary>
    Email,

    /// <summary>A whole number of up to 18 digits.</summary>
    Number,
}
