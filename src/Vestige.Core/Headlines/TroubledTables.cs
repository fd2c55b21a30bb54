namespace Vestige.Core.Headlines;

/// <summary>Tables of a crossing that share a trouble.</summary>
/// <param name="Names">Which, as schema.table; at least one.</param>
/// <param name="Since">Since when the first of them; null where that is not known.</param>
/// <param name="Count">How many changes or rows of them are concerned; 0 where they are not counted.</param>
public sealed record TroubledTables(IReadOnlyList<string> Names, DateTimeOffset? Since = null, long Count = 0);
