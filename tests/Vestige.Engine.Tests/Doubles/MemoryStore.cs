using System.Collections.Immutable;
using Vestige.Engine.Events;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>A control store in memory.</summary>
public sealed class MemoryStore : IControlStore
{
    private readonly Dictionary<string, StoredCrossing> crossings = [];
    private ImmutableList<CrossingEvent> events = [];
    private long term;

    public ImmutableList<CrossingEvent> Events => events;

    public Task<IReadOnlyList<StoredCrossing>> LoadAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<StoredCrossing>>([.. crossings.Values]);

    public Task SaveAsync(StoredCrossing crossing, CancellationToken cancellation)
    {
        crossings[crossing.Definition.Name] = crossing;
        return Task.CompletedTask;
    }

    public Task DeleteAsync(string crossing, CancellationToken cancellation)
    {
        crossings.Remove(crossing);
        return Task.CompletedTask;
    }

    public Task<long> NextTermAsync(string crossing, long after, CancellationToken cancellation) =>
        Task.FromResult(term = Math.Max(term, after) + 1);

    public Task AppendAsync(CrossingEvent happened, CancellationToken cancellation)
    {
        ImmutableInterlocked.Update(ref events, (known, added) => known.Add(added), happened);
        return Task.CompletedTask;
    }
}
