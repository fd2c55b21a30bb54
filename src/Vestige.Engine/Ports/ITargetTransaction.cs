using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>One transaction on a target: rows and progress commit together. Disposing without a commit rolls back.</summary>
public interface ITargetTransaction : IAsyncDisposable
{
    /// <summary>The target's own transaction, where this one stands before it.</summary>
    ITargetTransaction Own => this;

    /// <summary>
    /// Creates the tables where they are missing, and drops others first as said. Throws <see cref="Faults.PortException"/> where another
    /// form is not to be dropped.
    /// </summary>
    Task CreateTablesAsync(IReadOnlyList<TableSchema> tables, TableMaking making, CancellationToken cancellation);

    /// <summary>Deletes every row of the table; only the shared ones where it has such.</summary>
    Task EmptyAsync(TableSchema table, CancellationToken cancellation);

    /// <summary>Inserts rows of an initial load into a table that this crossing has emptied.</summary>
    Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation);

    /// <summary>Inserts rows of a load that continues; a row whose key is there is overwritten. The primary key is built.</summary>
    Task MergeAsync(TableSchema table, RowBlock block, CancellationToken cancellation);

    /// <summary>
    /// Applies net effects, several times one after the other, and returns, by table, what was met against expectation. Throws
    /// <see cref="Faults.RowRefusedException"/> when a row is not taken; the transaction can then only be disposed.
    /// </summary>
    Task<IReadOnlyDictionary<TableName, ApplyCounts>> ApplyAsync(IReadOnlyList<FoldedTable> tables, CancellationToken cancellation);

    /// <summary>
    /// Applies one change as it is, for what cannot be folded and for finding a refused row. After a refusal the
    /// transaction can be rolled back to its savepoint, if it has one.
    /// </summary>
    Task<ApplyCounts> ApplyAsync(TableSchema table, RowChange change, CancellationToken cancellation);

    /// <summary>Sets the savepoint to which <see cref="RollBackToSavepointAsync"/> goes back; an earlier one is given up.</summary>
    Task SavepointAsync(CancellationToken cancellation);

    /// <summary>Takes back what was applied since the savepoint, a refusal included.</summary>
    Task RollBackToSavepointAsync(CancellationToken cancellation);

    /// <summary>
    /// Commits. An exception leaves it open whether the commit happened; only a new session's progress tells.
    /// </summary>
    Task CommitAsync(ProgressUpdate update, CancellationToken cancellation);
}
