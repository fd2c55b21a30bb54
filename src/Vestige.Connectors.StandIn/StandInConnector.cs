using Vestige.Connectors.StandIn.Bench;
using Vestige.Connectors.StandIn.Drills;
using Vestige.Connectors.StandIn.Sources;
using Vestige.Connectors.StandIn.Targets;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn;

/// <summary>
/// A stand-in; its file is opened when it is first used, and tried again the next time when it could not be. Safe for several threads.
/// </summary>
public sealed class StandInConnector : IConnector
{
    private readonly Lock gate = new();
    private readonly string name;
    private readonly Func<StandInDatabase> open;
    private readonly object[] ports;
    private StandInDatabase? database;
    private bool closed;

    public StandInConnector(string name, Func<StandInDatabase> open, TimeProvider clock)
    {
        this.name = name;
        this.open = open;
        ports =
        [
            new StandInSource(name, () => Database, clock),
            new StandInTarget(name, () => Database, clock),
            new StandInBench(() => Database, clock),
            new DrillPanel(() => Database),
        ];
    }

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

    public T? Find<T>()
        where T : class => this as T ?? ports.OfType<T>().FirstOrDefault();

    public ValueTask DisposeAsync()
    {
        lock (gate)
        {
            closed = true;
            return database?.DisposeAsync() ?? ValueTask.CompletedTask;
        }
    }
}
