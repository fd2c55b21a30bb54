namespace Vestige.Core.Schemas;

/// <summary>How exact a number of rows is; the less exact the greater.</summary>
public enum RowPrecision
{
    /// <summary>Counted.</summary>
    Exact,

    /// <summary>Estimated by the server.</summary>
    About,

    /// <summary>There are more than were counted, and nobody knows how many.</summary>
    Over,
}
