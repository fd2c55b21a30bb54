namespace Vestige.Connectors.PostgreSql.Readiness;

/// <summary>A server setting: the value in force, which need not be the one that was written.</summary>
/// <param name="WaitsForRestart">Another value was written and is not in force yet.</param>
/// <param name="Waiting">That value, where it may be read.</param>
internal sealed record SettingInForce(string Name, string Value, bool WaitsForRestart, string? Waiting);
