using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Shapes;

/// <summary>
/// A session that the stream and a load use side by side: where the target lets only one write at a time, each transaction waits for the
/// other's to end. Safe for several callers, each with one transaction at a time.
/// </summary>
internal sealed class SharedSession(ITargetSession session) : ITargetSession
{
    private readonly AsyncLock turns = new();

    public TargetProgress Progress => session.Progress;

    public void Match(IReadOnlyList<LogBranch> branches) => session.Match(branches);

    public void Learn(IReadOnlyList<TableProgress> tables) => session.Learn(tables);

    public Task<string?> WhyWaitingAsync(CancellationToken cancellation) => session.WhyWaitingAsync(cancellation);

    public Task<ITargetSession?> OpenBesideAsync(CancellationToken cancellation) => session.OpenBesideAsync(cancellation);

    public async Task<ITargetTransaction> BeginAsync(bool checkReferences, Route route, CancellationToken cancellation)
    {
        var turn = await turns.EnterAsync(cancellation);
        try
        {
            return new Turn(await session.BeginAsync(checkReferences, route, cancellation), turn);
        }
        catch
        {
            turn.Dispose();
            throw;
        }
    }

    public async Task BuildKeysAsync(TableSchema table, CancellationToken cancellation)
    {
        using var turn = await turns.EnterAsync(cancellation);
        await session.BuildKeysAsync(table, cancellation);
    }

    public async Task BuildPrimaryKeyAsync(TableSchema table, CancellationToken cancellation)
    {
        using var turn = await turns.EnterAsync(cancellation);
        await session.BuildPrimaryKeyAsync(table, cancellation);
    }

    public async Task BuildReferencesAsync(IReadOnlyList<TableSchema> tables, CancellationToken cancellation)
    {
        using var turn = await turns.EnterAsync(cancellation);
        await session.BuildReferencesAsync(tables, cancellation);
    }

    public ValueTask DisposeAsync() => session.DisposeAsync();

    /// <summary>A transaction whose end lets the next one begin.</summary>
    private sealed class Turn(ITargetTransaction transaction, IDisposable turn) : PassingTransaction(transaction)
    {
        public override async ValueTask DisposeAsync()
        {
            try
            {
                await base.DisposeAsync();
            }
            finally
            {
                turn.Dispose();
            }
        }
    }
}
