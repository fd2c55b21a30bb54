using Vestige.Engine.Ports;
using Vestige.Engine.Rewinding;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>What is to be applied again, as one process reaches it.</summary>
public sealed class SimRewinds(SimStoreState state, SimFaults faults, SimWorld world) : IRewindStore
{
    public async Task<Rewind?> FindAsync(string crossing, CancellationToken cancellation)
    {
        await faults.BeforeAsync("rewind.find", cancellation);
        return state.Rewind;
    }

    public async Task SaveAsync(Rewind rewind, CancellationToken cancellation)
    {
        await faults.BeforeAsync("rewind.save", cancellation);
        state.Rewind = rewind;
        faults.After("rewind.save");
    }

    public async Task DeleteAsync(string crossing, CancellationToken cancellation)
    {
        await faults.BeforeAsync("rewind.delete", cancellation);
        state.Rewind = null;
        world.Count("changes", "applied again");
        faults.After("rewind.delete");
    }
}
