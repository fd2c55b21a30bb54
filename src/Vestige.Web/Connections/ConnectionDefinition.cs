namespace Vestige.Web.Connections;

/// <summary>A connection as people see it; its secret is written and never read back.</summary>
/// <param name="Name">A slug, unique among connections.</param>
/// <param name="Kind">Which system it reaches.</param>
/// <param name="Settings">How.</param>
/// <param name="HasSecret">Whether a secret is kept for it.</param>
public sealed record ConnectionDefinition(string Name, string Kind, IReadOnlyDictionary<string, string> Settings, bool HasSecret);
