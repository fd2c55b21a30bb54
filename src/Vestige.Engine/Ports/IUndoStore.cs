using Vestige.Engine.Undoing;

namespace Vestige.Engine.Ports;

/// <summary>
/// Where it is kept which tables can be restored. An entry is kept before the target is changed, so that one may be there whose tables are
/// where they were. Safe for several threads.
/// </summary>
public interface IUndoStore
{
    Task AddAsync(IReadOnlyList<UndoEntry> entries, CancellationToken cancellation);

    /// <summary>The latest first.</summary>
    Task<IReadOnlyList<UndoEntry>> ListAsync(CancellationToken cancellation);

    /// <summary>Null when there is none of that id.</summary>
    Task<UndoEntry?> FindAsync(string id, CancellationToken cancellation);

    Task RemoveAsync(IReadOnlyList<string> ids, CancellationToken cancellation);
}
