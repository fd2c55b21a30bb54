using System.Collections.Concurrent;
using Vestige.Engine.Ports;
using Vestige.Engine.Rewinding;

namespace Vestige.Tests.Shared.Rewinding;

/// <summary>What is to be applied again, in memory; it outlives an engine, not the test. Safe for several threads.</summary>
public sealed class MemoryRewinds : IRewindStore
{
    private readonly ConcurrentDictionary<string, Rewind> kept = new();

    public Task<Rewind?> FindAsync(string crossing, CancellationToken cancellation) => Task.FromResult(kept.GetValueOrDefault(crossing));

    public Task SaveAsync(Rewind rewind, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(rewind);
        kept[rewind.Crossing] = rewind;
        return Task.CompletedTask;
    }

    public Task DeleteAsync(string crossing, CancellationToken cancellation)
    {
        kept.TryRemove(crossing, out _);
        return Task.CompletedTask;
    }
}
