using Vestige.Engine.Events;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Rewinding;
using Vestige.Tests.Shared.SchemaVersions;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>The control store's durable content.</summary>
public sealed class SimStoreState
{
    public Dictionary<string, StoredCrossing> Crossings { get; } = [];

    public Dictionary<string, WaitingChange> Waiting { get; } = [];

    /// <summary>A broken quarantine: of what it is to keep it forgets what waits behind an earlier change of its row.</summary>
    public bool ForgetsBehind { get; init; }

    public List<DecidedChange> Decided { get; } = [];

    public MemorySchemaVersions Versions { get; } = new();

    /// <summary>A broken store: it says that it keeps versions of tables and does not.</summary>
    public bool ForgetsVersions { get; init; }

    /// <summary>What is to be applied again; null when there is nothing.</summary>
    public Rewind? Rewind { get; set; }

    public Dictionary<string, long> Terms { get; } = [];
}

/// <summary>The control store as one process reaches it.</summary>
public sealed class SimStore(SimStoreState state, SimFaults faults) : IControlStore
{
    public Task<IReadOnlyList<StoredCrossing>> LoadAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<StoredCrossing>>([.. state.Crossings.Values]);

    public async Task SaveAsync(StoredCrossing crossing, CancellationToken cancellation)
    {
        await faults.BeforeAsync("store.save", cancellation);
        state.Crossings[crossing.Definition.Name] = crossing;
        faults.After("store.save");
    }

    public Task DeleteAsync(string crossing, CancellationToken cancellation)
    {
        state.Crossings.Remove(crossing);
        return Task.CompletedTask;
    }

    public async Task<long> NextTermAsync(string crossing, long after, CancellationToken cancellation)
    {
        await faults.BeforeAsync("store.term", cancellation);
        var next = state.Terms[crossing] = Math.Max(state.Terms.GetValueOrDefault(crossing), after) + 1;
        faults.After("store.term");
        return next;
    }

    public async Task AppendAsync(CrossingEvent happened, CancellationToken cancellation) =>
        await faults.BeforeAsync("store.event", cancellation);
}
