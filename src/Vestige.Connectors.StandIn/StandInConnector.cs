using Vestige.Connectors.StandIn.Sources;
using Vestige.Connectors.StandIn.Targets;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn;

/// <summary>A stand-in; its file is opened when it is first used, and tried again the next time when it could not be. Safe for several threads.</summary>
public sealed class StandInConnector(string name, Func<StandInDatabase> open, TimeProvider clock) : IConnector
{
    private readonly Lock gate = new();
    private StandInDatabase? database;
    private bool closed;

    /// <summary>Throws <see cref="PortException"/> when the file cannot be opened.</summary>
    public StandInDatabase Database
    {
        get
        {
            lock (gate)
            {
                return closed ? throw new PortException($"The stand-in {name} was closed.") { Transient = true } : database ??= open();
            }
        }
    }

    public ISource Source => new StandInSource(name, () => Database, clock);

    public ITarget Target => new StandInTarget(name, () => Database, clock);

    public ValueTask DisposeAsync()
    {
        lock (gate)
        {
            closed = true;
            return database?.DisposeAsync() ?? ValueTask.CompletedTask;
        }
    }
}
