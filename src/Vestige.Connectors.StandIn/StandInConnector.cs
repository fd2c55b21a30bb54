using Vestige.Connectors.StandIn.Sources;
using Vestige.Connectors.StandIn.Targets;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn;

/// <summary>A stand-in; its file is opened when it is first used, and tried again the next time when it could not be. Safe for several threads.</summary>
public sealed class StandInConnector(string name, Func<StandInDatabase> open, TimeProvider clock) : IConnector
{
    private readonly Lock gate = new();
    private StandInDatabase? database;

    /// <summary>Throws <see cref="Vestige.Engine.Faults.PortException"/> when the file cannot be opened.</summary>
    public StandInDatabase Database
    {
        get
        {
            lock (gate)
            {
                return database ??= open();
            }
        }
    }

    public ISource Source => new StandInSource(name, () => Database, clock);

    public ITarget Target => new StandInTarget(name, () => Database, clock);

    public ValueTask DisposeAsync()
    {
        lock (gate)
        {
            return database?.DisposeAsync() ?? ValueTask.CompletedTask;
        }
    }
}
