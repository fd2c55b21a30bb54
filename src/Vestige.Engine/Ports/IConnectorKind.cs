using Vestige.Core.Connections;
using Vestige.Core.Crossings;

namespace Vestige.Engine.Ports;

/// <summary>
/// A kind of system that can be connected. It describes itself: pages, the API and its document are drawn from what stands here,
/// and know no kind by name.
/// </summary>
public interface IConnectorKind
{
    /// <summary>As connections name it: lower-case letters, digits and hyphens.</summary>
    string Kind { get; }

    /// <summary>What a person calls one such connection, with no article, such as "PostgreSQL connection".</summary>
    string Title { get; }

    /// <summary>A sentence or two on what it is; null where the title says enough.</summary>
    string? About { get; }

    /// <summary>Its settings and the parts of its secret, in the order of a form.</summary>
    IReadOnlyList<SettingField> Fields { get; }

    /// <summary>What its connectors can do.</summary>
    IReadOnlyList<Capability> Can { get; }

    /// <summary>What a connection with these settings reaches, as the beginning of a sentence.</summary>
    string Describe(IReadOnlyDictionary<string, string> settings);

    /// <summary>What stays when Vestige forgets a connection, as a sentence; null when nothing does.</summary>
    string? Remains { get; }

    /// <summary>What is wrong with settings beyond what <see cref="Fields"/> say; empty when nothing is. Reaches nothing.</summary>
    IReadOnlyList<DefinitionProblem> Check(IReadOnlyDictionary<string, string> settings);

    /// <summary>Makes a connector; reaches nothing yet.</summary>
    IConnector Open(ConnectorContext context);
}
