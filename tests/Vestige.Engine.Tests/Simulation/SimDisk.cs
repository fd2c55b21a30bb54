using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>The simulated disk under the spool: what was not synced is lost at a crash, from some point on.</summary>
public sealed class SimDisk
{
    public SortedDictionary<long, List<SpoolRecord>> Durable { get; } = [];

    public Dictionary<long, List<SpoolRecord>> Pending { get; } = [];

    /// <summary>A broken disk: a sync returns without having made anything durable.</summary>
    public bool SyncLies { get; init; }

    /// <summary>Who may use it; another process has lost its lock.</summary>
    public SimProcess? Owner { get; set; }

    public void Crash(Random random)
    {
        foreach (var (number, pending) in Pending)
        {
            if (Durable.TryGetValue(number, out var records))
            {
                records.AddRange(SyncLies ? [] : pending.Take(random.Next(pending.Count + 1)));
            }
        }

        Pending.Clear();
    }
}

/// <summary>The disk as one process reaches it.</summary>
public sealed class SimSpoolFiles(SimDisk disk, SimFaults faults, SimProcess process, SimWorld world) : ISpoolFiles
{
    public async Task<IReadOnlyList<long>> ListAsync(CancellationToken cancellation)
    {
        await EnterAsync("spool.list", cancellation);
        return [.. disk.Durable.Keys];
    }

    public async Task<ISpoolFile> OpenAsync(long number, CancellationToken cancellation)
    {
        await EnterAsync("spool.open", cancellation);
        disk.Durable.TryAdd(number, []);
        faults.After("spool.open");
        return new SimFile(this, number);
    }

    public async Task DeleteAsync(long number, CancellationToken cancellation)
    {
        await EnterAsync("spool.delete", cancellation);
        disk.Durable.Remove(number);
        disk.Pending.Remove(number);
        faults.After("spool.delete");
    }

    private async Task EnterAsync(string call, CancellationToken cancellation)
    {
        await faults.BeforeAsync(call, cancellation);
        if (disk.Owner != process)
        {
            throw new PortException("The spool is locked by another process.") { Transient = true };
        }
    }

    private sealed class SimFile(SimSpoolFiles files, long number) : ISpoolFile
    {
        private bool closed;

        public long Bytes => Seen.Sum(record => (long)record.Body.Length) + Unsynced.Sum(record => (long)record.Body.Length);

        private List<SpoolRecord> Records => files.Disk.Durable.TryGetValue(number, out var records) ? records : [];

        /// <summary>On a disk that lies, what it only pretends to hold is read back as well, until the crash.</summary>
        private IEnumerable<SpoolRecord> Seen => files.Disk.SyncLies ? Records.Concat(Unsynced) : Records;

        private List<SpoolRecord> Unsynced =>
            files.Disk.Pending.TryGetValue(number, out var pending) ? pending : files.Disk.Pending[number] = [];

        public async Task AppendAsync(SpoolRecord record, CancellationToken cancellation)
        {
            await EnterAsync("spool.append", cancellation);
            Unsynced.Add(record with { Body = record.Body.ToArray() });
            files.Faults.After("spool.append");
        }

        public async Task SyncAsync(CancellationToken cancellation)
        {
            await EnterAsync("spool.sync", cancellation);
            if (files.Disk.SyncLies)
            {
                return;
            }

            if (files.World.Random.NextDouble() < files.World.FaultRate)
            {
                var part = files.World.Random.Next(Unsynced.Count + 1);
                Records.AddRange(Unsynced.Take(part));
                Unsynced.Clear();
                files.Faults.Throw("spool.sync", "amid");
            }

            Records.AddRange(Unsynced);
            Unsynced.Clear();
            files.Faults.After("spool.sync");
        }

        public async Task<IReadOnlyList<SpoolRecord>> ReadSideAsync(CancellationToken cancellation)
        {
            await EnterAsync("spool.side", cancellation);
            return [.. Seen.Where(record => record.Kind != SpoolRecordKind.Data)];
        }

        public async Task<IReadOnlyList<SpoolRecord>> ReadAsync(long afterSequence, int bytes, CancellationToken cancellation)
        {
            await EnterAsync("spool.read", cancellation);
            return
            [
                .. Seen.Where(record => record.Kind == SpoolRecordKind.Data && record.Sequence > afterSequence)
                    .Take(files.World.Random.Next(1, 4)),
            ];
        }

        public Task KeepFilterAsync(ReadOnlyMemory<byte> filter, CancellationToken cancellation) =>
            EnterAsync("spool.filter", cancellation);

        public Task<ReadOnlyMemory<byte>> ReadFilterAsync(CancellationToken cancellation) => Task.FromResult(ReadOnlyMemory<byte>.Empty);

        public async Task<IReadOnlyList<SpoolRecord>> ReadFiltersAsync(CancellationToken cancellation)
        {
            await EnterAsync("spool.filters", cancellation);
            return [.. Seen.Where(record => record.Kind == SpoolRecordKind.Data)];
        }

        public async Task<SpoolRecord?> LastAsync(bool complete, CancellationToken cancellation)
        {
            await EnterAsync("spool.last", cancellation);
            return Seen.LastOrDefault(record => !complete || (record.Complete && record.Kind == SpoolRecordKind.Data));
        }

        public async Task<SpoolRecord?> FindAsync(ulong number, CancellationToken cancellation)
        {
            await EnterAsync("spool.find", cancellation);
            return Seen.LastOrDefault(record => record.Complete && record.Kind == SpoolRecordKind.Data && record.Number <= number);
        }

        public async Task CutAsync(long afterSequence, CancellationToken cancellation)
        {
            await EnterAsync("spool.cut", cancellation);
            Records.RemoveAll(record => record.Sequence > afterSequence);
            if (!files.Disk.SyncLies)
            {
                Unsynced.Clear();
            }

            files.Faults.After("spool.cut");
        }

        public ValueTask DisposeAsync()
        {
            closed = true;
            return ValueTask.CompletedTask;
        }

        private Task EnterAsync(string call, CancellationToken cancellation) =>
            closed ? throw new PortException("The file was closed.") { Transient = true } : files.EnterAsync(call, cancellation);
    }

    private SimDisk Disk => disk;

    private SimFaults Faults => faults;

    private SimWorld World => world;
}
