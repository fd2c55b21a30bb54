using Vestige.Engine.Faults;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>The faults of one process's calls through the ports: before the effect, after it, and delays.</summary>
public sealed class SimFaults(SimWorld world, SimProcess process, TimeProvider clock)
{
    /// <summary>Before a call has its effect.</summary>
    public async Task BeforeAsync(string call, CancellationToken cancellation)
    {
        if (world.Random.Next(3) == 0)
        {
            await Task.Yield();
        }

        if (call == world.Failing || world.Random.NextDouble() < world.FaultRate)
        {
            if (world.Random.Next(3) == 0)
            {
                await Task.Delay(TimeSpan.FromMilliseconds(world.Random.Next(1, 3000)), clock, cancellation);
            }

            Throw(call, "before");
        }

        cancellation.ThrowIfCancellationRequested();
    }

    /// <summary>After a call had its effect: the answer is lost.</summary>
    public void After(string call)
    {
        if (world.Random.NextDouble() < world.FaultRate)
        {
            Throw(call, "after");
        }
    }

    public bool Dead => process.Dead;

    public void Throw(string call, string when)
    {
        world.Count(call, when);
        throw new PortException($"{call} failed ({when} its effect)") { Transient = true };
    }
}
