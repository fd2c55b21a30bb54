using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Ports;
using Vestige.SpoolFiles;
using Vestige.Tests.Conformance;
using Vestige.Tests.Shared.Quarantine;

namespace Vestige.Connectors.PostgreSql.Tests.Servers;

/// <summary>One engine that has connections to two databases, and to the first once more under another name of its server.</summary>
public sealed class BothWays : IConnections, IControlStore, IAsyncDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-spool-").FullName;
    private readonly Dictionary<string, PostgreSqlConnector> connectors;
    private long term;

    private BothWays(Database a, Database b)
    {
        connectors = new Dictionary<string, PostgreSqlConnector>
        {
            ["a"] = new(a.Settings(), a.Names, TimeProvider.System),
            ["b"] = new(b.Settings(), b.Names, TimeProvider.System),
            ["a-again"] = new(a.Settings() with { Host = "localhost" }, a.Names, TimeProvider.System),
        };
    }

    public CrossingEngine Engine { get; private set; } = null!;

    public static async Task<BothWays> StartAsync(Database a, Database b)
    {
        var both = new BothWays(a, b);
        both.Engine = new CrossingEngine(
            both,
            new EngineStores(both, new MemoryQuarantine()),
            new EngineSecrets(new PlainText(), new NamedKeys()),
            new EngineOptions(new()),
            TimeProvider.System,
            new Random(1),
            NullLogger.Instance
        );
        await both.Engine.StartAsync(CancellationToken.None);
        return both;
    }

    public SourceSystem Source(string connection) => connectors[connection].Source;

    public TargetSystem Target(string connection) => connectors[connection].Target;

    public ISpoolFiles SpoolOf(string connection) => new SqliteSpoolFiles(Path.Combine(folder, connection));

    public Task<IReadOnlyList<StoredCrossing>> LoadAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<StoredCrossing>>([]);

    public Task SaveAsync(StoredCrossing crossing, CancellationToken cancellation) => Task.CompletedTask;

    public Task DeleteAsync(string crossing, CancellationToken cancellation) => Task.CompletedTask;

    public Task<long> NextTermAsync(string crossing, long after, CancellationToken cancellation) =>
        Task.FromResult(term = Math.Max(term, after) + 1);

    public Task AppendAsync(CrossingEvent happened, CancellationToken cancellation) => Task.CompletedTask;

    public async ValueTask DisposeAsync()
    {
        await Engine.DisposeAsync();
        foreach (var connector in connectors.Values)
        {
            await connector.Source.Log.EndLogAsync(CancellationToken.None);
            await connector.DisposeAsync();
        }

        Directory.Delete(folder, recursive: true);
    }

    private sealed class PlainText : ISpoolCipher
    {
        public byte[] Seal(ReadOnlySpan<byte> plain) => plain.ToArray();

        public byte[] Open(ReadOnlySpan<byte> secret) => secret.ToArray();
    }
}
