namespace Vestige.Web.Crossings;

/// <summary>By what the tables of a crossing are listed.</summary>
public enum TableOrder
{
    /// <summary>What needs a person first, then what is not following yet; equals by name.</summary>
    Worst,

    /// <summary>By name.</summary>
    Name,

    /// <summary>By changes applied since the process started, the most first.</summary>
    Changes,

    /// <summary>By the last change, the latest first.</summary>
    Latest,
}
