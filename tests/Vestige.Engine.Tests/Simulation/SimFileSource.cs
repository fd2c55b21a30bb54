using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Tests.Doubles;
using Vestige.Engine.Tests.Toys.FileOffsets;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// The source with files, offsets and sets of transactions in the simulated world. The world commits to it, lets other servers take over,
/// and asks which of its own commits a position includes.
/// </summary>
public sealed class SimFileSource
{
    private readonly FileLogDatabase database = new(SimRows.All);
    private readonly List<LogPosition> commits = [LogPosition.Zero];
    private readonly Dictionary<LogIdentity, SortedDictionary<ulong, int>> places = [];

    public SimFileSource() => Remember();

    /// <summary>A broken source: after another server takes over, its log continues one transaction too late.</summary>
    public bool Leaps { get; init; }

    /// <summary>Commits what the world has committed; <paramref name="head"/> is the position of that commit in the world.</summary>
    public void Commit(DateTimeOffset at, IReadOnlyList<RowChange> changes, LogPosition head)
    {
        commits.Add(head);
        database.Commit(at, changes);
        Remember();
    }

    /// <summary>Another server takes over.</summary>
    public void Promote()
    {
        database.Promote();
        Remember();
    }

    /// <summary>The world's position of the last commit that a position of a server's log includes.</summary>
    public LogPosition InWorld(LogPosition position, LogIdentity identity) =>
        commits[places[identity].LastOrDefault(place => place.Key <= position.Offset).Value];

    /// <summary>The source as one process reaches it.</summary>
    public IConnector Connect(SimFaults faults, SimWorld world) =>
        new ConnectorOfPorts(new Port(new FileLogConnector(database, world.ClockOf(faults)), this, faults));

    private void Remember()
    {
        var server = database.Server;
        if (!places.TryGetValue(server.Identity, out var known))
        {
            places.Add(server.Identity, known = []);
        }

        var count = commits.Count - 1 - server.Log.Count;
        known.TryAdd(server.Oldest, count);
        foreach (var entry in server.Log)
        {
            known.TryAdd(entry.Offset, ++count);
        }
    }

    private sealed class Port(FileLogConnector inner, SimFileSource source, SimFaults faults) : IProbe, ICatalogue, ILogSource, IRowSource
    {
        public string Engine => "sim";

        public IEngineTypes Types => PlainTypes.Instance;

        public string Footprint => "";

        public Task<string> GetIdentityAsync(CancellationToken cancellation) => Task.FromResult("source");

        public Task<bool> IsSameAsync(IProbe other, CancellationToken cancellation) => Task.FromResult(false);

        public Task<IReadOnlyList<ReadinessCheck>> TestAsync(CancellationToken cancellation) => inner.TestAsync(cancellation);

        public Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation) => inner.ReadTablesAsync(cancellation);

        public Task<SourceHead> SampleAsync(LogPosition captured, CancellationToken cancellation) =>
            FaultyAsync("source.sample", () => inner.SampleAsync(captured, cancellation), cancellation);

        public Task<LogStart> BeginLogAsync(CancellationToken cancellation) =>
            FaultyAsync("source.begin", () => inner.BeginLogAsync(cancellation), cancellation);

        public Task EndLogAsync(CancellationToken cancellation) => inner.EndLogAsync(cancellation);

        public async Task<LogContinuity> ContinueAsync(ResumeToken token, CancellationToken cancellation)
        {
            var answer = await FaultyAsync("source.continue", () => inner.ContinueAsync(token, cancellation), cancellation);
            return source.Leaps && answer is LogContinuity.NewBranch next
                ? next with
                {
                    Begin = source.database.Server.Log.FirstOrDefault(entry => entry.Offset > next.Begin)?.Offset ?? next.Begin,
                }
                : answer;
        }

        public async Task<ILogReader> OpenLogAsync(LogRequest request, CancellationToken cancellation) =>
            new Reader(await FaultyAsync("source.open", () => inner.OpenLogAsync(request, cancellation), cancellation), faults);

        public Task EnsureReadAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) => Task.CompletedTask;

        public async Task ConfirmAsync(LogPosition position, CancellationToken cancellation)
        {
            await faults.BeforeAsync("source.confirm", cancellation);
            await inner.ConfirmAsync(position, cancellation);
            faults.After("source.confirm");
        }

        public Task<IReadOnlyList<ReadinessCheck>> CheckSourceAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation) =>
            inner.CheckSourceAsync(tables, cancellation);

        public string Format(LogPosition position) => inner.Format(position);

        public LogPosition? Parse(string text, int branch) => inner.Parse(text, branch);

        public long Distance(LogPosition from, LogPosition to) => inner.Distance(from, to);

        public Task<ISourceSnapshot> OpenSnapshotAsync(int readers, int branch, CancellationToken cancellation) =>
            FaultyAsync("source.snapshot", () => inner.OpenSnapshotAsync(readers, branch, cancellation), cancellation);

        private async Task<T> FaultyAsync<T>(string call, Func<Task<T>> ask, CancellationToken cancellation)
        {
            await faults.BeforeAsync(call, cancellation);
            var answer = await ask();
            faults.After(call);
            return answer;
        }
    }

    private sealed class Reader(ILogReader inner, SimFaults faults) : ILogReader
    {
        public async ValueTask<LogRead> ReadAsync(TimeSpan wait, CancellationToken cancellation)
        {
            await faults.BeforeAsync("log.read", cancellation);
            return await inner.ReadAsync(wait, cancellation);
        }

        public ValueTask DisposeAsync() => inner.DisposeAsync();
    }
}
