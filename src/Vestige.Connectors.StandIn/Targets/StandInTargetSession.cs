using Vestige.Connectors.StandIn.Native;
using Vestige.Core.Positions;
using Vestige.Core.Routes;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.StandIn.Targets;

/// <summary>One worker's hold on a stand-in.</summary>
internal sealed class StandInTargetSession(StandInDatabase database, string crossing, long term, TargetProgress progress) : ITargetSession
{
    public TargetProgress Progress { get; internal set; } = progress;

    public string Crossing => crossing;

    public void Match(IReadOnlyList<LogBranch> branches) => Progress = Progress.Match(branches);

    public void Learn(IReadOnlyList<TableProgress> tables) => Progress = Progress.With(new ProgressUpdate(null, tables));

    public async Task<ITargetTransaction> BeginAsync(bool checkReferences, Route route, CancellationToken cancellation)
    {
        await database.Drills.PassConnectionAsync(cancellation);
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
        var head = transaction.Prepared("SELECT epoch, position, server, timeline FROM vestige_progress WHERE crossing = ?");
        head.Bind(1, crossing);
        try
        {
            var there = head.Step();
            long? position = !there || head.IsNull(1) ? null : head.Integer(1);
            var log = !there || head.IsNull(2) ? null : new LogIdentity(head.Text(2), head.Integer(3));
            if (!there || head.Integer(0) != term || position != (long?)Progress.Position?.Offset || log != Progress.Identity)
            {
                throw new FencedException(
                    there
                        ? $"The worker with term {term} has been succeeded by term {head.Integer(0)}, or the position moved to {position}."
                        : $"The progress of {crossing} was removed from {database.Name}."
                )
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
