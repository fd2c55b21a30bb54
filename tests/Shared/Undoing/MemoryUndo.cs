using Vestige.Engine.Ports;
using Vestige.Engine.Undoing;

namespace Vestige.Tests.Shared.Undoing;

/// <summary>Tables that can be restored, in memory; they outlive an engine, not the test. Safe for several threads.</summary>
public sealed class MemoryUndo : IUndoStore
{
    private readonly Lock gate = new();
    private readonly List<UndoEntry> kept = [];

    /// <summary>The time of all of them is over.</summary>
    public void Expire()
    {
        lock (gate)
        {
            for (var i = 0; i < kept.Count; i++)
            {
                kept[i] = kept[i] with { Until = kept[i].At };
            }
        }
    }

    public Task AddAsync(IReadOnlyList<UndoEntry> entries, CancellationToken cancellation)
    {
        lock (gate)
        {
            kept.InsertRange(0, entries);
        }

        return Task.CompletedTask;
    }

    public Task<IReadOnlyList<UndoEntry>> ListAsync(CancellationToken cancellation)
    {
        lock (gate)
        {
            return Task.FromResult<IReadOnlyList<UndoEntry>>([.. kept]);
        }
    }

    public Task<UndoEntry?> FindAsync(string id, CancellationToken cancellation)
    {
        lock (gate)
        {
            return Task.FromResult(kept.Find(entry => entry.Id == id));
        }
    }

    public Task RemoveAsync(IReadOnlyList<string> ids, CancellationToken cancellation)
    {
        lock (gate)
        {
            kept.RemoveAll(entry => ids.Contains(entry.Id));
        }

        return Task.CompletedTask;
    }
}
