using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;

namespace Vestige.Tests.Shared.Quarantine;

/// <summary>A quarantine in memory.</summary>
public sealed class MemoryQuarantine : IQuarantineStore
{
    private readonly Lock gate = new();
    private readonly Dictionary<(string Crossing, string Id), WaitingChange> waiting = [];

    public Task<IReadOnlyList<WaitingChange>> ReadAsync(string crossing, CancellationToken cancellation)
    {
        lock (gate)
        {
            return Task.FromResult<IReadOnlyList<WaitingChange>>([.. waiting.Where(pair => pair.Key.Crossing == crossing).Select(pair => pair.Value).OrderBy(change => change.Position).ThenBy(change => change.Ordinal)]);
        }
    }

    public Task WriteAsync(string crossing, IReadOnlyList<WaitingChange> kept, IReadOnlyList<string> dropped, CancellationToken cancellation)
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
        }

        return Task.CompletedTask;
    }
}
