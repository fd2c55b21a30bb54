using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// The quarantine as one process reaches it; what waits outlives the process. Like the spool it lies in the data folder, which a
/// process that is thought dead has lost.
/// </summary>
public sealed class SimQuarantine(SimStoreState state, SimDisk disk, SimFaults faults, SimProcess process) : IQuarantineStore
{
    public async Task<IReadOnlyList<WaitingChange>> ReadAsync(string crossing, CancellationToken cancellation)
    {
        await faults.BeforeAsync("quarantine.read", cancellation);
        ThrowIfLost();
        return [.. state.Waiting.Values.OrderBy(change => change.Position).ThenBy(change => change.Ordinal)];
    }

    public async Task WriteAsync(
        string crossing,
        IReadOnlyList<WaitingChange> kept,
        IReadOnlyList<string> dropped,
        IReadOnlyList<DecidedChange> decided,
        CancellationToken cancellation
    )
    {
        await faults.BeforeAsync("quarantine.write", cancellation);
        ThrowIfLost();
        foreach (var change in kept.Where(change => !state.ForgetsBehind || change.State != WaitingState.Behind))
        {
            state.Waiting[change.Id] = change;
        }

        foreach (var id in dropped)
        {
            state.Waiting.Remove(id);
        }

        state.Decided.AddRange(decided);
        faults.After("quarantine.write");
    }

    public async Task<IReadOnlyList<DecidedChange>> DecidedAsync(
        string crossing,
        TableName? table,
        int most,
        CancellationToken cancellation
    )
    {
        await faults.BeforeAsync("quarantine.read", cancellation);
        return [.. state.Decided.Where(one => table is null || one.Change.Table == table).Reverse().Take(most)];
    }

    public async Task ForgetAsync(string crossing, CancellationToken cancellation)
    {
        await faults.BeforeAsync("quarantine.write", cancellation);
        state.Waiting.Clear();
        state.Decided.Clear();
    }

    private void ThrowIfLost()
    {
        if (disk.Owner != process)
        {
            faults.Throw("quarantine", "folder lost");
        }
    }
}
