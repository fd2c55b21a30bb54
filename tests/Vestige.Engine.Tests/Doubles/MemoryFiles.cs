using System.Collections.Immutable;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>
/// Spool files in memory, with a disk that can be full and a crash that forgets what was not synced. What is held is replaced, never
/// changed, so that a status may be read at any moment.
/// </summary>
public sealed class MemoryFiles : ISpoolFiles
{
    public SortedDictionary<long, File> All { get; } = [];

    /// <summary>Every append fails while it is set, as on a full disk.</summary>
    public bool Full { get; set; }

    /// <summary>No file can be begun while it is set.</summary>
    public bool NoMoreFiles { get; set; }

    /// <summary>No filter of a whole file can be written while it is set.</summary>
    public bool NoFilters { get; set; }

    public int Syncs { get; private set; }

    public void Crash() => All.Values.ToList().ForEach(file => file.Forget());

    public Task<IReadOnlyList<long>> ListAsync(CancellationToken cancellation) => Task.FromResult<IReadOnlyList<long>>([.. All.Keys]);

    public Task<ISpoolFile> OpenAsync(long number, CancellationToken cancellation)
    {
        if (NoMoreFiles && !All.ContainsKey(number))
        {
            throw new IOException("No space left on device");
        }

        All.TryAdd(number, new File(this));
        return Task.FromResult<ISpoolFile>(All[number]);
    }

    public Task DeleteAsync(long number, CancellationToken cancellation)
    {
        All.Remove(number);
        return Task.CompletedTask;
    }

    public sealed class File(MemoryFiles files) : ISpoolFile
    {
        public ImmutableList<SpoolRecord> Held { get; set; } = [];

        public ImmutableList<SpoolRecord> Waiting { get; private set; } = [];

        public void Forget() => Waiting = [];

        public long Bytes => Held.Concat(Waiting).Sum(record => (long)record.Body.Length);

        private IEnumerable<SpoolRecord> Data => Held.Where(record => record.Kind == SpoolRecordKind.Data);

        public Task AppendAsync(SpoolRecord record, CancellationToken cancellation)
        {
            if (files.Full)
            {
                throw new IOException("No space left on device");
            }

            Waiting = Waiting.Add(record with { Body = record.Body.ToArray() });
            return Task.CompletedTask;
        }

        public Task SyncAsync(CancellationToken cancellation)
        {
            files.Syncs++;
            Held = Held.AddRange(Waiting);
            Waiting = [];
            return Task.CompletedTask;
        }

        public Task<IReadOnlyList<SpoolRecord>> ReadSideAsync(CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<SpoolRecord>>([.. Held.Where(record => record.Kind != SpoolRecordKind.Data)]);

        public Task<IReadOnlyList<SpoolRecord>> ReadAsync(long afterSequence, int bytes, CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<SpoolRecord>>([.. Data.Where(record => record.Sequence > afterSequence).Take(2)]);

        public ReadOnlyMemory<byte> Filter { get; private set; }

        public Task KeepFilterAsync(ReadOnlyMemory<byte> filter, CancellationToken cancellation)
        {
            if (files.NoFilters && !filter.IsEmpty)
            {
                throw new IOException("No space left on device");
            }

            Filter = filter.ToArray();
            return Task.CompletedTask;
        }

        public Task<ReadOnlyMemory<byte>> ReadFilterAsync(CancellationToken cancellation) => Task.FromResult(Filter);

        public Task<IReadOnlyList<SpoolRecord>> ReadFiltersAsync(CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<SpoolRecord>>([.. Data]);

        public Task<SpoolRecord?> LastAsync(bool complete, CancellationToken cancellation) =>
            Task.FromResult(complete ? Data.LastOrDefault(record => record.Complete) : Held.LastOrDefault());

        public Task<SpoolRecord?> FindAsync(ulong number, CancellationToken cancellation) =>
            Task.FromResult(Data.LastOrDefault(record => record.Complete && record.Number <= number));

        public Task CutAsync(long afterSequence, CancellationToken cancellation)
        {
            Held = Held.RemoveAll(record => record.Sequence > afterSequence);
            Waiting = [];
            return Task.CompletedTask;
        }

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;
    }
}
