namespace Vestige.Core.Crossings;

/// <summary>What a target table that is there already means.</summary>
public enum ExistingRows
{
    /// <summary>The crossing does not start when it has rows.</summary>
    Refuse,

    /// <summary>Its rows are deleted before the load.</summary>
    Empty,

    /// <summary>It is dropped with its rows and all that belongs to it, and made again.</summary>
    Replace,

    /// <summary>Its rows stay, and changes are applied to them; only where nothing but changes crosses.</summary>
    Keep,

    /// <summary>Its rows stay, those of the source are merged in by key; only where rows are loaded.</summary>
    Merge,
}
