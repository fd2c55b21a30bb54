using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Quarantining;

/// <summary>
/// What one transaction of the target passes over: changes that go into quarantine, and truncations that end the waiting of others.
/// </summary>
internal sealed class AsideChanges
{
    private readonly List<WaitingChange> changes = [];

    public IReadOnlyList<WaitingChange> Changes => changes;

    /// <summary>The source's tables that were truncated, each with the last position of that.</summary>
    public Dictionary<TableName, LogPosition> Truncated { get; } = [];

    public bool IsNone => changes.Count == 0 && Truncated.Count == 0;

    /// <summary>Adds a change; its ordinal is given here.</summary>
    public void Add(WaitingChange change)
    {
        var ordinal = changes.Count > 0 && changes[^1].Position == change.Position ? changes[^1].Ordinal + 1 : 0;
        changes.Add(change with { Ordinal = ordinal });
    }

    /// <summary>The table is emptied there: what was passed over of it before counts for nothing.</summary>
    public void Truncate(TableName table, LogPosition position)
    {
        changes.RemoveAll(change => change.Table == table);
        Truncated[table] = position;
    }
}
