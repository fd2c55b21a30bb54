namespace Vestige.Engine.Reconciling;

/// <summary>How a segment of a table stands.</summary>
public enum SegmentState
{
    /// <summary>Not yet compared.</summary>
    Open,

    /// <summary>Proved equal.</summary>
    Equal,

    /// <summary>Rows differ, and are listed.</summary>
    Differing,

    /// <summary>Rows differ that are not listed, since too many others are.</summary>
    NotListed,
}
