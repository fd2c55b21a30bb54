using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Rewinding;

/// <summary>What a crossing's worker is to apply again: one request at a time, kept until it is done. Safe for several threads.</summary>
/// <param name="crossing">The crossing.</param>
/// <param name="store">Where it is kept through a restart; null where it is not.</param>
internal sealed class RewindQueue(string crossing, IRewindStore? store)
{
    private readonly Lock gate = new();
    private Rewind? pending;

    /// <summary>Beats when something is asked, or not wanted any more.</summary>
    public AsyncSignal Changed { get; } = new();

    /// <summary>What is asked and not done; null when there is nothing.</summary>
    public Rewind? Pending
    {
        get
        {
            lock (gate)
            {
                return pending;
            }
        }
    }

    public async Task RecallAsync(CancellationToken cancellation) =>
        Set(store is null ? null : await store.FindAsync(crossing, cancellation));

    public async Task AddAsync(Rewind rewind, CancellationToken cancellation)
    {
        await (store?.SaveAsync(rewind, cancellation) ?? Task.CompletedTask);
        Set(rewind);
    }

    /// <summary>It is done, or not wanted any more. Nothing happens where another was asked since.</summary>
    public async Task EndAsync(Rewind rewind, CancellationToken cancellation)
    {
        if (ReferenceEquals(Pending, rewind))
        {
            await (store?.DeleteAsync(crossing, cancellation) ?? Task.CompletedTask);
            Set(null);
        }
    }

    private void Set(Rewind? rewind)
    {
        lock (gate)
        {
            pending = rewind;
        }

        Changed.Beat();
    }
}
