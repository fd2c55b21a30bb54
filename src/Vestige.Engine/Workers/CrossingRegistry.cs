using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Rewinding;

namespace Vestige.Engine.Workers;

/// <summary>The crossings that the engine knows, by name. Safe for several threads.</summary>
internal sealed class CrossingRegistry(EngineStores stores)
{
    private readonly Lock gate = new();
    private readonly SortedDictionary<string, CrossingEntry> entries = new(StringComparer.Ordinal);

    /// <summary>All of them, in the order of their names.</summary>
    public IReadOnlyList<CrossingEntry> All
    {
        get
        {
            lock (gate)
            {
                return [.. entries.Values];
            }
        }
    }

    public CrossingEntry? Find(string crossing)
    {
        lock (gate)
        {
            return entries.GetValueOrDefault(crossing);
        }
    }

    /// <summary>The crossing of that name; throws <see cref="RequestRefusedException"/> when there is none.</summary>
    public CrossingEntry Existing(string crossing) => Find(crossing) ?? throw Unknown(crossing);

    /// <summary>
    /// The crossing of that name under its lock. Whoever changes a crossing does so under this: what is read of it then is what is
    /// overwritten, and one that was removed meanwhile is not brought back. Throws <see cref="RequestRefusedException"/> when there is
    /// none, also where it was removed while this waited.
    /// </summary>
    public async Task<LockedCrossing> EnterAsync(string crossing, CancellationToken cancellation) =>
        await TryEnterAsync(crossing, cancellation) ?? throw Unknown(crossing);

    /// <summary>As <see cref="EnterAsync"/>; null when there is none.</summary>
    public async Task<LockedCrossing?> TryEnterAsync(string crossing, CancellationToken cancellation)
    {
        while (Find(crossing) is { } entry)
        {
            var held = await entry.Lock.EnterAsync(cancellation);
            if (!entry.IsRemoved)
            {
                return new LockedCrossing(entry, held);
            }

            held.Dispose();
        }

        return null;
    }

    public void Add(StoredCrossing stored)
    {
        lock (gate)
        {
            entries.Add(
                stored.Definition.Name,
                new CrossingEntry(
                    stored,
                    new Quarantine(stored.Definition.Name, stores.Quarantine),
                    new Verdicts(stored.Definition.Name, stores.Reconciliations),
                    new RewindQueue(stored.Definition.Name, stores.Rewinds)
                )
            );
        }
    }

    /// <summary>Takes a crossing out. Under its lock.</summary>
    public void Remove(CrossingEntry entry)
    {
        lock (gate)
        {
            entries.Remove(entry.Name);
        }

        entry.IsRemoved = true;
    }

    private static RequestRefusedException Unknown(string crossing) =>
        new($"There is no crossing {crossing}.") { Remedy = "Look at the list of crossings." };
}
