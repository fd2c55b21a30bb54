namespace Vestige.Web.Fleet;

/// <summary>By what crossings are listed.</summary>
public enum FleetOrder
{
    /// <summary>By headline, the worst first; then the one that is furthest behind.</summary>
    Worst,

    /// <summary>By name.</summary>
    Name,

    /// <summary>By lag, the largest first.</summary>
    Behind,

    /// <summary>By changes applied a second, the most first.</summary>
    Rate,
}
