using Vestige.Engine.Faults;

namespace Vestige.Connectors.StandIn.Drills;

/// <summary>
/// Faults put on purpose into one stand-in, in force until they are lifted or the process ends. Safe for several threads.
/// </summary>
public sealed class StandInDrills(string name, TimeProvider clock)
{
    private readonly Lock gate = new();
    private List<RefusedRow> refused = [];
    private volatile bool connectionCut;
    private volatile bool readerStopped;
    private long delayTicks;

    /// <summary>Nothing reaches the database over the connection; the bench, which sits at the server, still does.</summary>
    public bool ConnectionCut
    {
        get => connectionCut;
        set => connectionCut = value;
    }

    /// <summary>The log cannot be read, while statements go on.</summary>
    public bool ReaderStopped
    {
        get => readerStopped;
        set => readerStopped = value;
    }

    /// <summary>Added to each call over the connection.</summary>
    public TimeSpan Delay
    {
        get => new(Interlocked.Read(ref delayTicks));
        set => Interlocked.Exchange(ref delayTicks, value.Ticks);
    }

    /// <summary>Rows whose writing is refused; replaced as a whole.</summary>
    public IReadOnlyList<RefusedRow> Refused
    {
        get
        {
            lock (gate)
            {
                return refused;
            }
        }
    }

    /// <summary>Whether any drill is on.</summary>
    public bool Any => ConnectionCut || ReaderStopped || Delay > TimeSpan.Zero || Refused.Count > 0;

    public void Refuse(RefusedRow row)
    {
        lock (gate)
        {
            refused = [.. refused.Where(other => other != row), row];
        }
    }

    public void Allow(RefusedRow row)
    {
        lock (gate)
        {
            refused = [.. refused.Where(other => other != row)];
        }
    }

    /// <summary>What every call over the connection passes first.</summary>
    internal async Task PassConnectionAsync(CancellationToken cancellation)
    {
        if (connectionCut)
        {
            throw new PortException($"The connection to {name} is cut (drill).")
            {
                Transient = true,
                Remedy = "Lift the drill on the stand-in's page.",
            };
        }

        var delay = Delay;
        if (delay > TimeSpan.Zero)
        {
            await Task.Delay(delay, clock, cancellation);
            if (connectionCut)
            {
                throw new PortException($"The connection to {name} is cut (drill).")
                {
                    Transient = true,
                    Remedy = "Lift the drill on the stand-in's page.",
                };
            }
        }
    }

    internal void PassReader()
    {
        if (readerStopped)
        {
            throw new PortException($"The log of {name} cannot be read (drill).")
            {
                Transient = true,
                Remedy = "Lift the drill on the stand-in's page.",
            };
        }
    }
}
