namespace Vestige.Core.Crossings;

/// <summary>What a target table that already has rows means.</summary>
public enum ExistingRows
{
    /// <summary>The crossing does not start.</summary>
    Refuse,

    /// <summary>The rows are deleted before the load.</summary>
    Empty,
}
