using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Shapes;

namespace Vestige.Engine.Following;

/// <summary>
/// Shows the tables that were loaded beside the stream as if they were a crossing of their own, at the position that the last of them has
/// reached, so that their changes are applied by what applies those of any stream. What that writes as the position becomes
/// what each of them has reached; the crossing's own position stays. Each table is seen as loaded as of what it has reached.
/// </summary>
internal sealed class ApartSession : ITargetSession
{
    private readonly ITargetSession session;
    private readonly Dictionary<TableName, LogPosition> loadedAt;

    public ApartSession(ITargetSession session, IReadOnlyList<TableProgress> tables)
    {
        this.session = session;
        loadedAt = tables.ToDictionary(table => table.Table, table => table.Position);
        Progress = new TargetProgress(
            session.Progress.Identity,
            tables.Min(table => table.Reached!.Value),
            [.. tables.Select(table => table with { Position = table.Reached!.Value, Reached = null })]
        );
    }

    public TargetProgress Progress { get; private set; }

    public void Match(IReadOnlyList<LogBranch> branches) => throw new NotSupportedException("Its positions have their branches.");

    public void Learn(IReadOnlyList<TableProgress> tables) => session.Learn(tables);

    public Task<string?> WhyWaitingAsync(CancellationToken cancellation) => session.WhyWaitingAsync(cancellation);

    public Task<ITargetSession?> OpenBesideAsync(CancellationToken cancellation) => Task.FromResult<ITargetSession?>(null);

    /// <summary>Other tables stand elsewhere, so references need not hold.</summary>
    public async Task<ITargetTransaction> BeginAsync(bool checkReferences, Route route, CancellationToken cancellation) =>
        new Transaction(this, await session.BeginAsync(checkReferences: false, route, cancellation));

    public Task BuildKeysAsync(TableSchema table, CancellationToken cancellation) => session.BuildKeysAsync(table, cancellation);

    public Task BuildPrimaryKeyAsync(TableSchema table, CancellationToken cancellation) =>
        session.BuildPrimaryKeyAsync(table, cancellation);

    public Task BuildReferencesAsync(IReadOnlyList<TableSchema> tables, CancellationToken cancellation) =>
        session.BuildReferencesAsync(tables, cancellation);

    /// <summary>The session that is shown belongs to others.</summary>
    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    /// <summary>What an update means for the crossing: a held table stands where it is held, and has reached nothing on its own.</summary>
    private ProgressUpdate Meaning(ProgressUpdate update)
    {
        var after = Progress.With(update);
        return new ProgressUpdate(
            null,
            [
                .. after.Tables.Select(table =>
                    table.Held
                        ? table
                        : table with
                        {
                            Position = loadedAt[table.Table],
                            Reached = LogPosition.Max(table.Position, after.Position!.Value),
                        }
                ),
            ]
        );
    }

    private sealed class Transaction(ApartSession apart, ITargetTransaction transaction) : PassingTransaction(transaction)
    {
        public override async Task CommitAsync(ProgressUpdate update, CancellationToken cancellation)
        {
            await base.CommitAsync(apart.Meaning(update), cancellation);
            apart.Progress = apart.Progress.With(update);
        }
    }
}
