namespace Vestige.Web.Api;

/// <summary>An index or a constraint.</summary>
/// <param name="Table">The target's table, as schema.table.</param>
/// <param name="Name">What it is called there.</param>
public sealed record PartBody(string? Table = null, string? Name = null);
