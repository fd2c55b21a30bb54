namespace Vestige.Core.Reconciling;

/// <summary>How a row differs between both sides.</summary>
public enum DifferenceKind
{
    /// <summary>The source has it, the target does not.</summary>
    Missing,

    /// <summary>The target has it, the source does not.</summary>
    Extra,

    /// <summary>Both have it with other values.</summary>
    Differing,
}
