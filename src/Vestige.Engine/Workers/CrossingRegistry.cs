using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Reconciling;

namespace Vestige.Engine.Workers;

/// <summary>The crossings that the engine knows, by name. Safe for several threads.</summary>
internal sealed class CrossingRegistry(IQuarantineStore quarantine, IReconciliationStore? reconciliations)
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
    public CrossingEntry Existing(string crossing) =>
        Find(crossing)
        ?? throw new RequestRefusedException($"There is no crossing {crossing}.") { Remedy = "Look at the list of crossings." };

    public void Add(StoredCrossing stored)
    {
        lock (gate)
        {
            entries.Add(
                stored.Definition.Name,
                new CrossingEntry(
                    stored,
                    new Quarantine(stored.Definition.Name, quarantine),
                    new Verdicts(stored.Definition.Name, reconciliations)
                )
            );
        }
    }

    public void Remove(string crossing)
    {
        lock (gate)
        {
            entries.Remove(crossing);
        }
    }
}
