using System.Collections.Concurrent;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;

namespace Vestige.Tests.Shared.Reconciling;

/// <summary>Comparisons in memory; they outlive an engine, not the test.</summary>
public sealed class MemoryReconciliations : IReconciliationStore
{
    private readonly ConcurrentDictionary<(string, string), Reconciliation> kept = new();
    private readonly ConcurrentDictionary<(string, TableName), Verdict> verdicts = new();
    private readonly ConcurrentDictionary<(string, string), Repair> repairs = new();

    /// <summary>Called with each comparison that is kept.</summary>
    public Action<Reconciliation> Saved { get; init; } = _ => { };

    public Task SaveAsync(Reconciliation reconciliation, CancellationToken cancellation)
    {
        Saved(reconciliation);
        kept[(reconciliation.Crossing, reconciliation.Id)] = reconciliation;
        return Task.CompletedTask;
    }

    public Task<IReadOnlyList<Reconciliation>> ListAsync(string crossing, int most, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<Reconciliation>>([
            .. kept.Values.Where(one => one.Crossing == crossing).OrderByDescending(one => one.BeganAt).Take(most),
        ]);

    public Task<Reconciliation?> FindAsync(string crossing, string id, CancellationToken cancellation) =>
        Task.FromResult(kept.GetValueOrDefault((crossing, id)));

    public Task CloseAsync(CancellationToken cancellation) => Task.CompletedTask;

    public Task<IReadOnlyList<Verdict>> VerdictsAsync(string crossing, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<Verdict>>([.. verdicts.Where(pair => pair.Key.Item1 == crossing).Select(pair => pair.Value)]);

    public Task SaveAsync(string crossing, IReadOnlyList<Verdict> verdicts, CancellationToken cancellation)
    {
        foreach (var verdict in verdicts)
        {
            this.verdicts[(crossing, verdict.Table)] = verdict;
        }

        return Task.CompletedTask;
    }

    public Task ForgetVerdictsAsync(string crossing, IReadOnlyList<TableName>? tables, CancellationToken cancellation)
    {
        foreach (var key in verdicts.Keys.Where(key => key.Item1 == crossing && tables?.Contains(key.Item2) != false))
        {
            verdicts.TryRemove(key, out _);
        }

        return Task.CompletedTask;
    }

    public Task SaveAsync(Repair repair, CancellationToken cancellation)
    {
        repairs[(repair.Crossing, repair.Id)] = repair;
        return Task.CompletedTask;
    }

    public Task<IReadOnlyList<Repair>> RepairsAsync(string crossing, int most, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<Repair>>([
            .. repairs.Values.Where(one => one.Crossing == crossing).OrderByDescending(one => one.At).Take(most),
        ]);
}
