using Vestige.Connectors.StandIn.Sources;
using Vestige.Connectors.StandIn.Targets;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn;

/// <summary>A stand-in; its file is opened when it is first used.</summary>
public sealed class StandInConnector(Func<StandInDatabase> open, TimeProvider clock) : IConnector
{
    private readonly Lazy<StandInDatabase> database = new(open);

    public StandInDatabase Database => database.Value;

    public ISource Source => new StandInSource(Database, clock);

    public ITarget Target => new StandInTarget(Database, clock);

    public ValueTask DisposeAsync() => database.IsValueCreated ? database.Value.DisposeAsync() : ValueTask.CompletedTask;
}
