using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Connectors.PostgreSql;
using Vestige.Connectors.PostgreSql.Tests.Servers;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.SpoolFiles;
using Vestige.Tests.Shared.Quarantine;
using Vestige.Tests.Shared.Reconciling;

namespace Vestige.Bench.PostgreSql;

/// <summary>Two private servers with durable commits, one database on the first and two on the second: ours and the baseline's.</summary>
internal sealed class ServerPair : IConnections, IControlStore, IAsyncDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-bench-").FullName;
    private readonly List<StoredCrossing> stored = [];

    public MemoryReconciliations Compared { get; } = new();

    private PostgreSqlConnector a = null!;
    private PostgreSqlConnector b = null!;
    private long term;

    public Database Source { get; private set; } = null!;

    public Database Target { get; private set; } = null!;

    public Database Baseline { get; private set; } = null!;

    public CrossingEngine Engine { get; private set; } = null!;

    public static async Task<ServerPair> StartAsync()
    {
        string[] settings =
        [
            "fsync=on",
            "shared_buffers=512MB",
            "max_wal_size=8GB",
            "checkpoint_timeout=30min",
            "wal_sender_timeout=60s",
            "autovacuum=off",
        ];
        var pair = new ServerPair();
        var (first, second) = (await Cluster.StartAsync(settings), await Cluster.StartAsync(settings));
        pair.Source = await first.MakeDatabaseAsync();
        pair.Target = await second.MakeDatabaseAsync();
        pair.Baseline = await second.MakeDatabaseAsync();
        pair.a = new PostgreSqlConnector(pair.Source.Settings(), pair.Source.Names, TimeProvider.System);
        pair.b = new PostgreSqlConnector(pair.Target.Settings(), pair.Target.Names, TimeProvider.System);
        await pair.BeginAsync();
        return pair;
    }

    public async Task BeginAsync()
    {
        Engine = new CrossingEngine(
            this,
            new EngineStores(this, new MemoryQuarantine()) { Reconciliations = Compared },
            new EngineSecrets(new Plain(), new BenchKeys()),
            new EngineOptions(new SpoolOptions()),
            TimeProvider.System,
            Random.Shared,
            NullLogger.Instance
        );
        await Engine.StartAsync(CancellationToken.None);
    }

    /// <summary>
    /// A small crossing that is given up again: Vestige is a server that has been running, and its first load would measure
    /// the translation of its own code.
    /// </summary>
    public async Task WarmAsync()
    {
        await Source.RunAsync(
            "CREATE SCHEMA warm; CREATE TABLE warm.up (id int8 PRIMARY KEY, note text); INSERT INTO warm.up SELECT i, repeat('note ', "
                + "i % 12) FROM generate_series(1, 300000) i"
        );
        await CrossAsync("warm", "warm.*");
        await UntilAsync(() => Engine.Status("warm")!.State == CrossingState.Following, "warm");
        await RemoveAsync("warm");
    }

    public async Task RemoveAsync(string name)
    {
        await Engine.StopAsync(name, StopMode.Now, "bench", CancellationToken.None);
        while (Engine.Status(name)!.State != CrossingState.Stopped)
        {
            await Task.Delay(5);
        }

        await Engine.RemoveAsync(name, "bench", CancellationToken.None);
    }

    public async Task CrossAsync(string name = "bench", string tables = "public.*")
    {
        await Engine.DefineAsync(
            new CrossingDefinition(name, CrossingDefinition.Copy, "a", "b", new TableRules([new TableRule(Take: tables)])),
            "bench",
            CancellationToken.None
        );
        await Engine.RunAsync(name, "bench", CancellationToken.None);
    }

    /// <summary>A slot at the source, and the server's own subscription from it in the baseline; both commit durably.</summary>
    public async Task SubscribeAsync(string table, bool enabled)
    {
        await Source.RunAsync($"CREATE PUBLICATION baseline FOR TABLE {table}");
        await Source.RunAsync("SELECT pg_create_logical_replication_slot('baseline', 'pgoutput')");
        await Baseline.RunAsync(
            $"CREATE SUBSCRIPTION baseline CONNECTION 'host=127.0.0.1 port={Source.Cluster.Port} dbname={Source.Name} user=dba "
                + $"password={Cluster.Password}' PUBLICATION baseline WITH (create_slot = false, slot_name = 'baseline', enabled = "
                + $"{enabled}, copy_data = false, synchronous_commit = 'on')"
        );
    }

    /// <summary>The rows of a table from the source to the baseline by the server's own tools.</summary>
    public Task<string> PipeAsync(string table) =>
        Cluster.RunAsync(
            "sh",
            "-c",
            $"psql -h 127.0.0.1 -p {Source.Cluster.Port} -U dba -qc 'COPY {table} TO STDOUT (FORMAT binary)' {Source.Name} | psql -h "
                + $"127.0.0.1 -p {Baseline.Cluster.Port} -U dba -qc 'COPY {table} FROM STDIN (FORMAT binary)' {Baseline.Name}"
        );

    public async Task UntilAsync(Func<bool> holds, string crossing = "bench")
    {
        while (!holds())
        {
            if (Engine.Status(crossing)?.Fault is { } fault)
            {
                throw new InvalidOperationException(fault.What);
            }

            await Task.Delay(5);
        }
    }

    SourceSystem IConnections.Source(string connection) => a.Source;

    TargetSystem IConnections.Target(string connection) => b.Target;

    public ISpoolFiles SpoolOf(string connection) => new SqliteSpoolFiles(folder);

    public Task<IReadOnlyList<StoredCrossing>> LoadAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<StoredCrossing>>([.. stored]);

    public Task SaveAsync(StoredCrossing crossing, CancellationToken cancellation)
    {
        stored.RemoveAll(known => known.Definition.Name == crossing.Definition.Name);
        stored.Add(crossing);
        return Task.CompletedTask;
    }

    public Task DeleteAsync(string crossing, CancellationToken cancellation)
    {
        stored.RemoveAll(known => known.Definition.Name == crossing);
        return Task.CompletedTask;
    }

    public Task<long> NextTermAsync(string crossing, long after, CancellationToken cancellation) =>
        Task.FromResult(Interlocked.Increment(ref term));

    public Task AppendAsync(CrossingEvent happened, CancellationToken cancellation) => Task.CompletedTask;

    public async ValueTask DisposeAsync()
    {
        await Engine.DisposeAsync();
        await a.DisposeAsync();
        await b.DisposeAsync();
        await Source.Cluster.DisposeAsync();
        await Target.Cluster.DisposeAsync();
        Directory.Delete(folder, recursive: true);
    }

    private sealed class Plain : ISpoolCipher
    {
        public byte[] Seal(ReadOnlySpan<byte> plain) => plain.ToArray();

        public byte[] Open(ReadOnlySpan<byte> secret) => secret.ToArray();
    }
}
