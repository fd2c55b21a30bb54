using System.Collections.Concurrent;
using Microsoft.Data.Sqlite;
using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Connectors.StandIn.Bench;
using Vestige.Connectors.StandIn.Sources;
using Vestige.Connectors.StandIn.Targets;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.SpoolFiles;
using Vestige.Tests.Conformance;
using Vestige.Tests.Shared.Quarantine;
using Vestige.Tests.Shared.Reconciling;
using Vestige.Tests.Shared.SchemaVersions;
using Xunit;

namespace Vestige.Connectors.StandIn.Tests;

/// <summary>An engine over two stand-ins, <c>a</c> and <c>b</c>, whose files SQLite itself can be asked about.</summary>
public sealed class TwoStandIns : IAsyncDisposable
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(
        int.Parse(Environment.GetEnvironmentVariable("VESTIGE_PATIENCE") ?? "120")
    );
    private readonly TemporaryFolder folder = new();
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly MemoryStore store = new();

    public TwoStandIns()
    {
        A = StandInDatabase.Open(folder.File("a.db"), "a", new StandInOptions(), TimeProvider.System);
        B = StandInDatabase.Open(folder.File("b.db"), "b", new StandInOptions(), TimeProvider.System);
    }

    public StandInDatabase A { get; }

    public StandInDatabase B { get; }

    private readonly MemoryQuarantine quarantine = new();
    private readonly MemoryReconciliations reconciliations = new();

    /// <summary>Versions of tables of <see cref="A"/>; they outlive an engine.</summary>
    public MemorySchemaVersions Versions { get; } = new();

    public CrossingEngine Engine { get; private set; } = null!;

    public async ValueTask DisposeAsync()
    {
        await Engine.DisposeAsync();
        await A.DisposeAsync();
        await B.DisposeAsync();
        folder.Dispose();
    }

    /// <summary>Begins an engine; again, over the same spool and store, when one has ended.</summary>
    public async Task BeginAsync(IAlertStore? alerts = null, IRunStore? runs = null, TimeProvider? clock = null)
    {
        Engine = EngineOver(new Systems(A, B, folder.File("spool-")), store, alerts, runs, clock);
        await Engine.StartAsync(cancellation);
    }

    /// <summary>Another installation over the same stand-ins, not aware of the first.</summary>
    public async Task<CrossingEngine> BeginAnotherAsync()
    {
        var another = EngineOver(new Systems(A, B, folder.File("another-spool-")), new MemoryStore());
        await another.StartAsync(cancellation);
        return another;
    }

    private CrossingEngine EngineOver(
        Systems systems,
        MemoryStore store,
        IAlertStore? alerts = null,
        IRunStore? runs = null,
        TimeProvider? clock = null
    ) =>
        new(
            systems,
            new EngineStores(store, quarantine)
            {
                Alerts = alerts,
                Runs = runs,
                Reconciliations = reconciliations,
                SchemaVersions = Versions,
            },
            new EngineSecrets(new NoCipher(), new NamedKeys()),
            new EngineOptions(new SpoolOptions(), CheckEvery: TimeSpan.FromMilliseconds(200), LookEvery: TimeSpan.FromMilliseconds(500)),
            clock ?? TimeProvider.System,
            new Random(1),
            NullLogger.Instance
        );

    public Task RunAsync(StandInDatabase database, string statement) =>
        StandInBench.RunAsync(database, statement, TimeProvider.System, cancellation);

    public async Task WaitAsync(Func<bool> holds, string what)
    {
        var until = DateTimeOffset.UtcNow + Patience;
        while (!holds())
        {
            Assert.True(
                DateTimeOffset.UtcNow < until,
                $"Waited in vain for {what}: "
                    + string.Join("; ", Engine.Statuses.Select(status => $"{status.State}, {status.Fault?.What} {status.Waiting?.What}"))
            );
            await Task.Delay(20, cancellation);
        }
    }

    /// <summary>The first column of what SQLite answers about <c>a.db</c> or <c>b.db</c>.</summary>
    public IReadOnlyList<string> Rows(string file, string sql)
    {
        using var connection = new SqliteConnection($"Data Source={folder.File(file)};Pooling=False;Mode=ReadOnly");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        using var reader = command.ExecuteReader();
        var rows = new List<string>();
        while (reader.Read())
        {
            rows.Add(reader.GetString(0));
        }

        return rows;
    }

    /// <summary>All that SQLite answers about <c>a.db</c> or <c>b.db</c>, a line for each row.</summary>
    public string Text(string file, string sql)
    {
        using var connection = new SqliteConnection($"Data Source={folder.File(file)};Pooling=False;Mode=ReadOnly");
        connection.Open();
        using var command = connection.CreateCommand();
        command.CommandText = sql;
        using var reader = command.ExecuteReader();
        var lines = new List<string>();
        while (reader.Read())
        {
            var values = Enumerable.Range(0, reader.FieldCount).Select(i => reader.IsDBNull(i) ? "NULL" : $"{reader.GetValue(i)}");
            lines.Add(string.Join('|', values));
        }

        return string.Join('\n', lines);
    }

    private sealed class Systems(StandInDatabase a, StandInDatabase b, string spools) : IConnections
    {
        public SourceSystem Source(string connection) =>
            new(connection, new ConnectorOfPorts(new StandInSource(connection == "a" ? a : b, TimeProvider.System)));

        public TargetSystem Target(string connection) =>
            new(connection, new ConnectorOfPorts(new StandInTarget(connection == "a" ? a : b, TimeProvider.System)));

        public ISpoolFiles SpoolOf(string connection) => new SqliteSpoolFiles(spools + connection);
    }

    private sealed class NoCipher : ISpoolCipher
    {
        public byte[] Seal(ReadOnlySpan<byte> plain) => plain.ToArray();

        public byte[] Open(ReadOnlySpan<byte> secret) => secret.ToArray();
    }

    private sealed class MemoryStore : IControlStore
    {
        private readonly ConcurrentDictionary<string, StoredCrossing> crossings = new();
        private long term;

        public Task<IReadOnlyList<StoredCrossing>> LoadAsync(CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<StoredCrossing>>([.. crossings.Values]);

        public Task SaveAsync(StoredCrossing crossing, CancellationToken cancellation)
        {
            crossings[crossing.Definition.Name] = crossing;
            return Task.CompletedTask;
        }

        public Task DeleteAsync(string crossing, CancellationToken cancellation) => Task.CompletedTask;

        public Task<long> NextTermAsync(string crossing, long after, CancellationToken cancellation) =>
            Task.FromResult(term = Math.Max(term, after) + 1);

        public Task AppendAsync(CrossingEvent happened, CancellationToken cancellation) => Task.CompletedTask;
    }
}
