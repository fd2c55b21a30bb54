using Vestige.Core.Crossings;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn;

/// <summary>Stand-ins, each a file in one folder.</summary>
/// <param name="pathOf">The file of a connection.</param>
/// <param name="clock">The clock their commits are stamped with.</param>
public sealed class StandInKind(Func<string, string> pathOf, TimeProvider clock) : IConnectorKind
{
    public string Kind => "stand-in";

    public IReadOnlyList<DefinitionProblem> Check(IReadOnlyDictionary<string, string> settings)
    {
        ArgumentNullException.ThrowIfNull(settings);
        return settings.Count == 0 ? [] : [new DefinitionProblem($"settings.{settings.Keys.First()}", "a stand-in has no settings", "Leave it out.")];
    }

    public IConnector Open(string name, IReadOnlyDictionary<string, string> settings, string? secret) => new StandInConnector(name, () => OpenFile(name), clock);

    private StandInDatabase OpenFile(string name)
    {
        var path = pathOf(name);
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        return StandInDatabase.Open(path, name, new StandInOptions(), clock);
    }
}
