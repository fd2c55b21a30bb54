namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// One simulated process: its continuations and timers run one at a time, in an order that the world's seed decides.
/// Killed, it never runs again, whatever wakes it.
/// </summary>
public sealed class SimProcess(SimWorld world) : SynchronizationContext
{
    private readonly List<(SendOrPostCallback Work, object? State)> ready = [];
    private readonly Lock gate = new();

    public bool Dead { get; private set; }

    public bool HasWork
    {
        get
        {
            lock (gate)
            {
                return ready.Count > 0;
            }
        }
    }

    public override void Post(SendOrPostCallback d, object? state)
    {
        lock (gate)
        {
            if (!Dead)
            {
                ready.Add((d, state));
            }
        }
    }

    public override void Send(SendOrPostCallback d, object? state) =>
        throw new NotSupportedException("Nothing may block in the simulation.");

    public override SynchronizationContext CreateCopy() => this;

    public void Kill()
    {
        lock (gate)
        {
            Dead = true;
            ready.Clear();
        }
    }

    /// <summary>Runs one waiting continuation, chosen by the seed; false when there is none.</summary>
    public bool RunOne()
    {
        (SendOrPostCallback Work, object? State) next;
        lock (gate)
        {
            if (ready.Count == 0)
            {
                return false;
            }

            var at = world.Random.Next(ready.Count);
            next = ready[at];
            ready.RemoveAt(at);
        }

        var before = Current;
        SetSynchronizationContext(this);
        try
        {
            next.Work(next.State);
        }
        finally
        {
            SetSynchronizationContext(before);
        }

        return true;
    }
}
