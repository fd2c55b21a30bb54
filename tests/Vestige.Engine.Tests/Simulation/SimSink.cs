using Vestige.Core.Positions;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>A target that keeps no progress or only a part of it, in the simulated world; the rest is kept for it beside it.</summary>
public abstract class SimSink
{
    protected MemoryProgress Kept { get; } = new();

    /// <summary>A broken installation: what is kept for the target is written before the target has the rows.</summary>
    public bool SavesEarly { get; init; }

    /// <summary>The sink as one process reaches it.</summary>
    public abstract IConnector Connect(SimFaults faults, SimWorld world);

    /// <summary>What is kept for it, as one process reaches it.</summary>
    public IProgressStore KeptBy(SimFaults faults, SimWorld world) => new Store(this, faults, world);

    /// <summary>Called after every step: shows the world what the sink holds, and checks it.</summary>
    protected abstract void Show(SimWorld world);

    private sealed class Store(SimSink sink, SimFaults faults, SimWorld world) : IProgressStore
    {
        public async Task<TargetProgress> ReadProgressAsync(string crossing, CancellationToken cancellation)
        {
            await faults.BeforeAsync("kept.read", cancellation);
            return await sink.Kept.ReadProgressAsync(crossing, cancellation);
        }

        public async Task<IProgressSession> OpenProgressAsync(string crossing, long term, CancellationToken cancellation)
        {
            await faults.BeforeAsync("kept.open", cancellation);
            var session = await sink.Kept.OpenProgressAsync(crossing, term, cancellation);
            faults.After("kept.open");
            return new Session(session, sink, faults, world);
        }

        public Task ForgetAsync(string crossing, CancellationToken cancellation) => sink.Kept.ForgetAsync(crossing, cancellation);
    }

    private sealed class Session(IProgressSession inner, SimSink sink, SimFaults faults, SimWorld world) : IProgressSession
    {
        public TargetProgress Progress => inner.Progress;

        public void Match(IReadOnlyList<LogBranch> branches) => inner.Match(branches);

        public async Task SaveAsync(ProgressUpdate update, CancellationToken cancellation)
        {
            await faults.BeforeAsync("kept.save", cancellation);
            await inner.SaveAsync(update, cancellation);
            sink.Show(world);
            faults.After("kept.save");
        }

        public ValueTask DisposeAsync() => inner.DisposeAsync();
    }
}
