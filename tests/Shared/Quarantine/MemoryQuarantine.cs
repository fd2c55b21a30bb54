using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;

namespace Vestige.Tests.Shared.Quarantine;

/// <summary>A quarantine in memory.</summary>
public sealed class MemoryQuarantine : IQuarantineStore
{
    private readonly Lock gate = new();
    private readonly Dictionary<(string Crossing, string Id), WaitingChange> waiting = [];
    private readonly List<(string Crossing, DecidedChange Decided)> decisions = [];

    public Task<IReadOnlyList<WaitingChange>> ReadAsync(string crossing, CancellationToken cancellation)
    {
        lock (gate)
        {
            return Task.FromResult<IReadOnlyList<WaitingChange>>([
                .. waiting
                    .Where(pair => pair.Key.Crossing == crossing)
                    .Select(pair => pair.Value)
                    .OrderBy(change => change.Position)
                    .ThenBy(change => change.Ordinal),
            ]);
        }
    }

    public Task WriteAsync(
        string crossing,
        IReadOnlyList<WaitingChange> kept,
        IReadOnlyList<string> dropped,
        IReadOnlyList<DecidedChange> decided,
        CancellationToken cancellation
    )
    {
        lock (gate)
        {
            foreach (var change in kept)
            {
                waiting[(crossing, change.Id)] = change;
            }

            foreach (var id in dropped)
            {
                waiting.Remove((crossing, id));
            }

            decisions.AddRange(decided.Select(one => (crossing, one)));
        }

        return Task.CompletedTask;
    }

    public Task<IReadOnlyList<DecidedChange>> DecidedAsync(string crossing, TableName? table, int most, CancellationToken cancellation)
    {
        lock (gate)
        {
            return Task.FromResult<IReadOnlyList<DecidedChange>>([
                .. decisions
                    .Where(one => one.Crossing == crossing && (table is null || one.Decided.Change.Table == table))
                    .Select(one => one.Decided)
                    .Reverse()
                    .Take(most),
            ]);
        }
    }

    public Task ForgetAsync(string crossing, CancellationToken cancellation)
    {
        lock (gate)
        {
            waiting.Keys.Where(key => key.Crossing == crossing).ToList().ForEach(key => waiting.Remove(key));
            decisions.RemoveAll(one => one.Crossing == crossing);
        }

        return Task.CompletedTask;
    }
}
