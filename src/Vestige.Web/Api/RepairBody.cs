namespace Vestige.Web.Api;

/// <summary>Which rows of a comparison are repaired.</summary>
/// <param name="Table">The target's table; null for all.</param>
/// <param name="Rows">Places in its list; null for all.</param>
/// <param name="Delete">The crossing's name, to delete rows that only the target has; null to leave them.</param>
public sealed record RepairBody(string? Table = null, IReadOnlyList<int>? Rows = null, string? Delete = null);
