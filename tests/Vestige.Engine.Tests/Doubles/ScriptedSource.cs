using System.Buffers;
using System.Collections.Immutable;
using System.Threading.Channels;
using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;
using Vestige.Engine.Tests.Simulation;

namespace Vestige.Engine.Tests.Doubles;

/// <summary>A source whose log says what a test puts into it, and which notes what it was told.</summary>
public sealed class ScriptedSource : IProbe, ICatalogue, IRowLookup, ILogSource, IRowSource
{
    private readonly Channel<LogRead> log = Channel.CreateUnbounded<LogRead>();
    private readonly List<LogRead> given = [];

    public LogIdentity Identity { get; set; } = new("scripted", 1);

    public LogPosition Head { get; private set; }

    public ImmutableList<LogPosition> Confirmed { get; private set; } = [];

    public List<TableDescription> Tables { get; } = [new(SimRows.First, 10, null, null), new(SimRows.Second, 20, null, null)];

    public List<ReadinessCheck> Test { get; } = [];

    public List<ReadinessCheck> Lines { get; } = [];

    public static LogFragment Fragment(long place, bool first = true, bool last = true, int changes = 1)
    {
        var bytes = new ArrayBufferWriter<byte>();
        for (var i = 0; i < changes; i++)
        {
            ChangeWriter.Write(bytes, new RowChange(ChangeKind.Insert, 0, default, SimRows.Of(place * 100 + i, $"row {i}")));
        }

        return new LogFragment(
            new LogPosition((ulong)place),
            DateTimeOffset.UnixEpoch.AddSeconds(place),
            first,
            last,
            changes,
            bytes.WrittenMemory
        );
    }

    public static LogRead Read(params LogFragment[] fragments) =>
        new(
            fragments,
            new Dictionary<int, TableSchema> { [0] = SimRows.First },
            fragments.Length > 0 && fragments[^1].Last ? fragments[^1].Position : LogPosition.Zero,
            AtHead: true
        );

    /// <summary>Commits transactions of one change each at these places.</summary>
    public void Commit(params long[] places)
    {
        foreach (var place in places)
        {
            Head = new LogPosition((ulong)place);
            log.Writer.TryWrite(Read(Fragment(place)));
        }
    }

    public Task<SourceHead> SampleAsync(LogPosition captured, CancellationToken cancellation) =>
        Task.FromResult(new SourceHead(Identity, Head, LogPosition.Zero, 0, null, null, DateTimeOffset.UnixEpoch));

    public string Engine { get; set; } = "scripted";

    public IEngineTypes Types => PlainTypes.Instance;

    public string Who { get; set; } = "source";

    public Task<string> GetIdentityAsync(CancellationToken cancellation) => Task.FromResult(Who);

    public async Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => await other.GetIdentityAsync(cancellation) == Who;

    public Task<LogStart> BeginLogAsync(CancellationToken cancellation) => Task.FromResult(new LogStart(Head));

    public Task EndLogAsync(CancellationToken cancellation) => Task.CompletedTask;

    public Task<LogContinuity> ContinueAsync(ResumeToken token, CancellationToken cancellation) =>
        Task.FromResult(Continuity ?? LogContinuity.ByIdentity(token, Identity));

    /// <summary>What it says of every token; null where identities say it.</summary>
    public LogContinuity? Continuity { get; init; }

    /// <summary>What was read and not confirmed is read again.</summary>
    public Task<ILogReader> OpenLogAsync(LogRequest request, CancellationToken cancellation) =>
        Task.FromResult<ILogReader>(new Reader(this, new Queue<LogRead>(given.Where(read => read.Passed > request.After))));

    public Task EnsureReadAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) => Task.CompletedTask;

    public Task ConfirmAsync(LogPosition position, CancellationToken cancellation)
    {
        Confirmed = Confirmed.Add(position);
        return Task.CompletedTask;
    }

    public Task<ISourceSnapshot> OpenSnapshotAsync(int readers, int branch, CancellationToken cancellation) =>
        throw new NotSupportedException();

    public Task<IReadOnlyList<ReadinessCheck>> CheckSourceAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<ReadinessCheck>>(Lines);

    public string Footprint => "";

    public string Format(LogPosition position) => position.ToString();

    public LogPosition? Parse(string text, int branch) => null;

    public long Distance(LogPosition from, LogPosition to) => (long)(to.Offset - from.Offset);

    public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<TableDescription>>(Tables);

    public Task<long> CountAsync(TableName table, SharedRows? only, CancellationToken cancellation) => Task.FromResult(0L);

    public Task<Row?> FindAsync(TableSchema table, IReadOnlyList<string> key, CancellationToken cancellation) =>
        Task.FromResult<Row?>(null);

    public Task<IReadOnlyList<Row>> SampleRowsAsync(TableSchema table, int rows, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<Row>>([]);

    public Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<ReadinessCheck>>(Test);

    private sealed class Reader(ScriptedSource source, Queue<LogRead> again) : ILogReader
    {
        public async ValueTask<LogRead> ReadAsync(TimeSpan wait, CancellationToken cancellation)
        {
            if (again.TryDequeue(out var known))
            {
                return known;
            }

            using var patience = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
            patience.CancelAfter(wait);
            try
            {
                var read = await source.log.Reader.ReadAsync(patience.Token);
                source.given.Add(read);
                return read;
            }
            catch (OperationCanceledException) when (!cancellation.IsCancellationRequested)
            {
                return new LogRead([], new Dictionary<int, TableSchema>(), source.Head, AtHead: true);
            }
        }

        public ValueTask DisposeAsync() => ValueTask.CompletedTask;
    }
}
