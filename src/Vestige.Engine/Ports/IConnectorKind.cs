using Vestige.Core.Crossings;

namespace Vestige.Engine.Ports;

/// <summary>A kind of system that can be connected.</summary>
public interface IConnectorKind
{
    /// <summary>As connections name it.</summary>
    string Kind { get; }

    /// <summary>What is wrong with a connection's settings; empty when nothing is. Reaches nothing.</summary>
    IReadOnlyList<DefinitionProblem> Check(IReadOnlyDictionary<string, string> settings);

    /// <summary>Makes a connector; reaches nothing yet. The settings have been checked.</summary>
    /// <param name="name">The connection's name.</param>
    /// <param name="settings">Its settings.</param>
    /// <param name="secret">Its secret in the clear, a JSON object of texts; null when it has none.</param>
    IConnector Open(string name, IReadOnlyDictionary<string, string> settings, string? secret);
}
