namespace Vestige.Web.Api;

/// <summary>Rows to write as the source has them. Columns, a range, or both are given.</summary>
/// <param name="Table">The source's table, as schema.table.</param>
/// <param name="Columns">The target's columns to write; without any, all of them.</param>
/// <param name="Range">The keys; null for all.</param>
/// <param name="DeleteExtra">Whether rows that only the target has are deleted; else they stay.</param>
public sealed record BackfillBody(
    string? Table = null,
    List<string>? Columns = null,
    KeyRangeBody? Range = null,
    bool DeleteExtra = false
);
