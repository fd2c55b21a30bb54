using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Targets;

/// <summary>One worker's hold on a stand-in.</summary>
internal sealed class StandInTargetSession(StandInDatabase database, string crossing, long epoch, TargetProgress progress) : ITargetSession
{
    public TargetProgress Progress { get; internal set; } = progress;

    public string Crossing => crossing;

    public async Task<ITargetTransaction> BeginAsync(bool checkReferences, Route route, CancellationToken cancellation)
    {
        await database.Drills.PassLineAsync(cancellation);
        var transaction = await database.BeginAsync(checkReferences, cancellation);
        try
        {
            Expect(transaction);
            database.Route = route.IsNone ? null : route.ToString();
            return new StandInTargetTransaction(this, transaction);
        }
        catch
        {
            transaction.Dispose();
            throw;
        }
    }

    /// <summary>A stand-in has one door, and one writer at a time passes it.</summary>
    public Task<string?> WhyWaitingAsync(CancellationToken cancellation) => Task.FromResult<string?>(null);

    public Task<ITargetSession?> OpenBesideAsync(CancellationToken cancellation) => Task.FromResult<ITargetSession?>(null);

    /// <summary>A stand-in's tables are made with their keys and references.</summary>
    public Task BuildKeysAsync(TableSchema table, CancellationToken cancellation) => Task.CompletedTask;

    public Task BuildPrimaryKeyAsync(TableSchema table, CancellationToken cancellation) => Task.CompletedTask;

    public Task BuildReferencesAsync(IReadOnlyList<TableSchema> tables, CancellationToken cancellation) => Task.CompletedTask;

    public ValueTask DisposeAsync() => ValueTask.CompletedTask;

    private void Expect(StandInTransaction transaction)
    {
        var head = transaction.Prepared("SELECT epoch, position FROM vestige_progress WHERE crossing = ?");
        head.Bind(1, crossing);
        try
        {
            var there = head.Step();
            LogPosition? position = !there || head.IsNull(1) ? null : new LogPosition((ulong)head.Integer(1));
            if (!there || head.Integer(0) != epoch || position != Progress.Position)
            {
                throw new FencedException(there
                    ? $"The worker of epoch {epoch} has been succeeded by epoch {head.Integer(0)}, or the position moved to {position}."
                    : $"The progress of {crossing} was removed from {database.Name}.")
                {
                    Transient = true,
                };
            }
        }
        finally
        {
            head.Reset();
        }
    }
}
