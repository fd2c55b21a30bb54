using Vestige.Core.Changes;
using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>A hold on a target that has progress and no rows.</summary>
public sealed class ProgressSession(TargetProgress progress) : ITargetSession, ITargetTransaction
{
    public TargetProgress Progress { get; private set; } = progress;

    public int Commits { get; private set; }

    public void Match(IReadOnlyList<LogBranch> branches) => Progress = Progress.Match(branches);

    public Task<ITargetTransaction> BeginAsync(bool checkReferences, Route route, CancellationToken cancellation) =>
        Task.FromResult<ITargetTransaction>(this);

    public Task CommitAsync(ProgressUpdate update, CancellationToken cancellation)
    {
        Progress = Progress.With(update);
        Commits++;
        return Task.CompletedTask;
    }

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    public Task<string?> WhyWaitingAsync(CancellationToken cancellation) => Task.FromResult<string?>(null);

    public Task<ITargetSession?> OpenBesideAsync(CancellationToken cancellation) => Task.FromResult<ITargetSession?>(null);

    public Task BuildKeysAsync(TableSchema table, CancellationToken cancellation) => throw new NotSupportedException();

    public Task BuildPrimaryKeyAsync(TableSchema table, CancellationToken cancellation) => throw new NotSupportedException();

    public Task BuildReferencesAsync(IReadOnlyList<TableSchema> tables, CancellationToken cancellation) =>
        throw new NotSupportedException();

    public Task CreateTablesAsync(IReadOnlyList<TableSchema> tables, TableMaking making, CancellationToken cancellation) =>
        throw new NotSupportedException();

    public Task EmptyAsync(TableSchema table, CancellationToken cancellation) => throw new NotSupportedException();

    public Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation) => throw new NotSupportedException();

    public Task MergeAsync(TableSchema table, RowBlock block, CancellationToken cancellation) => throw new NotSupportedException();

    public Task<IReadOnlyDictionary<TableName, ApplyCounts>> ApplyAsync(
        IReadOnlyList<FoldedTable> tables,
        CancellationToken cancellation
    ) => throw new NotSupportedException();

    public Task<ApplyCounts> ApplyAsync(TableSchema table, RowChange change, CancellationToken cancellation) =>
        throw new NotSupportedException();

    public Task MarkAsync(CancellationToken cancellation) => throw new NotSupportedException();

    public Task BackToMarkAsync(CancellationToken cancellation) => throw new NotSupportedException();
}
