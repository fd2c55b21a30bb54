using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Shapes;

/// <summary>A transaction that stands before a target's own and passes everything on.</summary>
internal abstract class PassingTransaction(ITargetTransaction transaction) : ITargetTransaction
{
    public ITargetTransaction Own => transaction.Own;

    public Task CreateTablesAsync(IReadOnlyList<TableSchema> tables, TableMaking making, CancellationToken cancellation) =>
        transaction.CreateTablesAsync(tables, making, cancellation);

    public Task EmptyAsync(TableSchema table, CancellationToken cancellation) => transaction.EmptyAsync(table, cancellation);

    public Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation) =>
        transaction.LoadAsync(table, block, cancellation);

    public Task MergeAsync(TableSchema table, RowBlock block, CancellationToken cancellation) =>
        transaction.MergeAsync(table, block, cancellation);

    public Task<IReadOnlyDictionary<TableName, ApplyCounts>> ApplyAsync(
        IReadOnlyList<FoldedTable> tables,
        CancellationToken cancellation
    ) => transaction.ApplyAsync(tables, cancellation);

    public Task<ApplyCounts> ApplyAsync(TableSchema table, RowChange change, CancellationToken cancellation) =>
        transaction.ApplyAsync(table, change, cancellation);

    public Task SavepointAsync(CancellationToken cancellation) => transaction.SavepointAsync(cancellation);

    public Task RollBackToSavepointAsync(CancellationToken cancellation) => transaction.RollBackToSavepointAsync(cancellation);

    public virtual Task CommitAsync(ProgressUpdate update, CancellationToken cancellation) => transaction.CommitAsync(update, cancellation);

    public virtual ValueTask DisposeAsync() => transaction.DisposeAsync();
}
