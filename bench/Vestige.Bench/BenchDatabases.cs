using Vestige.Connectors.StandIn;
using Vestige.Connectors.StandIn.Sources;
using Vestige.Connectors.StandIn.Targets;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.SpoolFiles;
using Vestige.Tests.Shared.Quarantine;
using Vestige.Web.Hosting;

namespace Vestige.Bench;

/// <summary>Two stand-ins and an engine between them, in a folder that goes with the measurement.</summary>
internal sealed class BenchDatabases : IAsyncDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-bench-").FullName;

    public BenchDatabases()
    {
        var wide = new StandInOptions(LogLimit: 8L << 30, LogSpan: 1L << 20);
        Source = StandInDatabase.Open(Path.Combine(folder, "a.db"), "a", wide, TimeProvider.System);
        Target = StandInDatabase.Open(Path.Combine(folder, "b.db"), "b", wide, TimeProvider.System);
        Plain = StandInDatabase.Open(Path.Combine(folder, "c.db"), "c", wide, TimeProvider.System);
        Engine = new CrossingEngine(
            new Systems(this),
            new EngineStores(new MemoryStore(), new MemoryQuarantine()),
            new EngineSecrets(new SpoolCipher(System.Security.Cryptography.RandomNumberGenerator.GetBytes(32)), new BenchKeys()),
            new EngineOptions(new SpoolOptions()),
            TimeProvider.System,
            new Random(1),
            Microsoft.Extensions.Logging.Abstractions.NullLogger.Instance
        );
    }

    public StandInDatabase Source { get; }

    public StandInDatabase Target { get; }

    /// <summary>What the plain loop writes to.</summary>
    public StandInDatabase Plain { get; }

    public CrossingEngine Engine { get; }

    public async ValueTask DisposeAsync()
    {
        await Engine.DisposeAsync();
        await Source.DisposeAsync();
        await Target.DisposeAsync();
        await Plain.DisposeAsync();
        Directory.Delete(folder, recursive: true);
    }

    private sealed class Systems(BenchDatabases all) : IConnections
    {
        public SourceSystem Source(string connection) =>
            new(connection, new ConnectorOfPorts(new StandInSource(connection == "a" ? all.Source : all.Target, TimeProvider.System)));

        public TargetSystem Target(string connection) =>
            new(connection, new ConnectorOfPorts(new StandInTarget(connection == "a" ? all.Source : all.Target, TimeProvider.System)));

        public ISpoolFiles SpoolOf(string connection) => new SqliteSpoolFiles(Path.Combine(all.folder, "spool"));
    }

    private sealed class MemoryStore : IControlStore
    {
        private long term;

        public Task<IReadOnlyList<StoredCrossing>> LoadAsync(CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<StoredCrossing>>([]);

        public Task SaveAsync(StoredCrossing crossing, CancellationToken cancellation) => Task.CompletedTask;

        public Task DeleteAsync(string crossing, CancellationToken cancellation) => Task.CompletedTask;

        public Task<long> NextTermAsync(string crossing, long after, CancellationToken cancellation) =>
            Task.FromResult(Interlocked.Increment(ref term));

        public Task AppendAsync(CrossingEvent happened, CancellationToken cancellation) => Task.CompletedTask;
    }
}
