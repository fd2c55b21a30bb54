namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>An enum or composite type as the catalogue had it at one moment.</summary>
/// <param name="Name">As format_type gives it.</param>
/// <param name="IsEnum">Whether the values are labels, else attributes with their types.</param>
/// <param name="Values">The labels or attributes by their numbers.</param>
internal sealed record TypeState(string Name, bool IsEnum, SortedDictionary<long, string> Values);
