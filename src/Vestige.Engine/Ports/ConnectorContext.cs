namespace Vestige.Engine.Ports;

/// <summary>What a connector is opened with.</summary>
/// <param name="Name">The connection's name.</param>
/// <param name="Settings">Its settings, which have been checked.</param>
/// <param name="Secret">The parts of its secret in the clear, by name; empty when it has none.</param>
public sealed record ConnectorContext(
    string Name,
    IReadOnlyDictionary<string, string> Settings,
    IReadOnlyDictionary<string, string> Secret
);
