using Vestige.Core.Connections;
using Vestige.Core.Crossings;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn;

/// <summary>Stand-ins, each a file in one folder.</summary>
/// <param name="pathOf">The file of a connection.</param>
/// <param name="clock">The clock their commits are stamped with.</param>
public sealed class StandInKind(Func<string, string> pathOf, TimeProvider clock) : IConnectorKind
{
    /// <summary>The kind's name.</summary>
    public const string Name = "stand-in";

    /// <summary>The folder of the files, within the data folder.</summary>
    public const string Folder = "stand-ins";

    public string Kind => Name;

    public string Title => "stand-in";

    public string About =>
        "A stand-in is a small simulated database with a transaction log of its own, kept in the data folder. "
        + "It can be the source or the target of a crossing, and takes drills.";

    public IReadOnlyList<SettingField> Fields => [];

    public IReadOnlyList<Capability> Can { get; } = [Capability.Source, Capability.Target, Capability.Bench, Capability.Drills];

    public string Remains => "Its file stays in the data folder.";

    public string Describe(IReadOnlyDictionary<string, string> settings) => "A stand-in";

    public IReadOnlyList<DefinitionProblem> Check(IReadOnlyDictionary<string, string> settings) => [];

    public IConnector Open(ConnectorContext context)
    {
        ArgumentNullException.ThrowIfNull(context);
        return new StandInConnector(context.Name, () => OpenFile(context.Name), clock);
    }

    private StandInDatabase OpenFile(string name)
    {
        var path = pathOf(name);
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        return StandInDatabase.Open(path, name, new StandInOptions(), clock);
    }
}
