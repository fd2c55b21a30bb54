using System.Diagnostics;
using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Core.Crossings;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Vestige.SpoolFiles;
using Vestige.Tests.Conformance;
using Vestige.Tests.Shared.Quarantine;
using Vestige.Tests.Shared.Reconciling;
using Vestige.Tests.Shared.Rewinding;
using Vestige.Tests.Shared.SchemaVersions;
using Vestige.Tests.Shared.Undoing;
using Xunit;

namespace Vestige.Connectors.PostgreSql.Tests.Servers;

/// <summary>An engine with one crossing between two databases; it can be ended and begun again over the same spool and store.</summary>
public sealed class Crossing : IConnections, IControlStore, IAsyncDisposable
{
    public const string Name = "copy";

    /// <summary>As long as a machine that others use may need; less while one works on a test.</summary>
    public static readonly TimeSpan Patience = TimeSpan.FromSeconds(
        int.Parse(Environment.GetEnvironmentVariable("VESTIGE_PATIENCE") ?? "180", System.Globalization.CultureInfo.InvariantCulture)
    );
    private readonly MemoryQuarantine quarantine = new();
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-spool-").FullName;
    private readonly Dictionary<string, StoredCrossing> stored = [];
    private readonly IConnector source;
    private readonly IConnector target;
    private readonly Database? from;
    private readonly Database? to;
    private long term;

    public Crossing(Database? from, Database? to, IConnector source, IConnector target)
    {
        this.from = from;
        this.to = to;
        this.source = source;
        this.target = target;
    }

    public Database From => from ?? throw new InvalidOperationException("The source is no server's.");

    public Database To => to ?? throw new InvalidOperationException("The target is no server's.");

    public CrossingEngine Engine { get; private set; } = null!;

    public List<string> Said { get; } = [];

    /// <summary>How often it is looked for tables that were made later.</summary>
    public TimeSpan LookEvery { get; init; } = TimeSpan.FromSeconds(2);

    public CrossingStatus Status => Engine.Status(Name)!;

    /// <summary>Starts an engine, and the crossing with it.</summary>
    public static async Task<Crossing> StartAsync(Database from, Database to, params string[] rules)
    {
        var crossing = new Crossing(
            from,
            to,
            new PostgreSqlConnector(from.Settings(), from.Names, TimeProvider.System),
            new PostgreSqlConnector(to.Settings(), to.Names, TimeProvider.System)
        );
        await crossing.BeginAndRunAsync(rules);
        return crossing;
    }

    /// <summary>An engine with a crossing of that definition, which does not run yet.</summary>
    public static async Task<Crossing> DefineAsync(Database from, Database to, CrossingDefinition definition, TimeSpan? lookEvery = null)
    {
        var crossing = new Crossing(
            from,
            to,
            new PostgreSqlConnector(from.Settings(), from.Names, TimeProvider.System),
            new PostgreSqlConnector(to.Settings(), to.Names, TimeProvider.System)
        )
        {
            LookEvery = lookEvery ?? TimeSpan.FromSeconds(2),
        };
        await crossing.BeginAsync();
        await crossing.Engine.DefineAsync(definition, "test", CancellationToken.None);
        return crossing;
    }

    /// <summary>The same, started.</summary>
    public static async Task<Crossing> StartAsync(Database from, Database to, CrossingDefinition definition)
    {
        var crossing = await DefineAsync(from, to, definition);
        await crossing.Engine.RunAsync(Name, "test", CancellationToken.None);
        return crossing;
    }

    /// <summary>Between a server and something else, started.</summary>
    public static async Task<Crossing> StartAsync(IConnector source, IConnector target, CrossingDefinition definition)
    {
        var crossing = new Crossing(null, null, source, target);
        await crossing.BeginAsync();
        await crossing.Engine.DefineAsync(definition, "test", CancellationToken.None);
        await crossing.Engine.RunAsync(Name, "test", CancellationToken.None);
        return crossing;
    }

    /// <summary>Runs statements at the source, separated by §, one at a time; with the engine ended meanwhile, or not.</summary>
    public async Task RunAsync(bool isAway, string statements)
    {
        ArgumentNullException.ThrowIfNull(statements);
        if (isAway)
        {
            await EndAsync();
        }

        foreach (var statement in statements.Split('§'))
        {
            await From.RunAsync(statement);
        }

        if (isAway)
        {
            await BeginAsync();
        }
    }

    /// <summary>Begins again with another definition, as if it had always been that one.</summary>
    public async Task KeepAsync(Func<CrossingDefinition, CrossingDefinition> change)
    {
        ArgumentNullException.ThrowIfNull(change);
        await EndAsync();
        stored[Name] = stored[Name] with { Definition = change(stored[Name].Definition) };
        await BeginAsync();
    }

    public async Task BeginAndRunAsync(params string[] rules)
    {
        await BeginAsync();
        IReadOnlyList<TableRule> taken =
            rules.Length == 0
                ? [new TableRule(Take: "public.*")]
                : [.. rules.Select(rule => rule[0] == '-' ? new TableRule(Leave: rule[1..]) : new TableRule(Take: rule))];
        await Engine.DefineAsync(
            new CrossingDefinition(Name, CrossingDefinition.Copy, "a", "b", new TableRules(taken)),
            "test",
            CancellationToken.None
        );
        await Engine.RunAsync(Name, "test", CancellationToken.None);
    }

    /// <summary>Versions of the source's tables; they outlive the engine.</summary>
    public MemorySchemaVersions Versions { get; } = new();

    /// <summary>Tables that can be restored; they outlive the engine.</summary>
    public MemoryUndo Undo { get; } = new();

    /// <summary>What is to be applied again; it outlives the engine.</summary>
    public MemoryRewinds Rewinds { get; } = new();

    public async Task BeginAsync()
    {
        Engine = new CrossingEngine(
            this,
            new EngineStores(this, quarantine)
            {
                Reconciliations = new MemoryReconciliations(),
                SchemaVersions = Versions,
                Undo = Undo,
                Rewinds = Rewinds,
            },
            new EngineSecrets(new NoCipher(), new NamedKeys()),
            new EngineOptions(new(), LookEvery: LookEvery),
            TimeProvider.System,
            new Random(1),
            NullLogger.Instance
        );
        await Engine.StartAsync(CancellationToken.None);
    }

    public ValueTask EndAsync() => Engine.DisposeAsync();

    /// <summary>A copy of what an installation keeps, made while it is ended.</summary>
    public async Task<Func<Task>> BackUpAsync()
    {
        var (kept, known, counted) = (
            Directory.CreateTempSubdirectory("vestige-kept-").FullName,
            new Dictionary<string, StoredCrossing>(stored),
            term
        );
        await Cluster.RunAsync("cp", "-a", $"{folder}/.", kept);
        return async () =>
        {
            Directory.Delete(folder, recursive: true);
            await Cluster.RunAsync("mv", kept, folder);
            stored.Clear();
            known.ToList().ForEach(pair => stored.Add(pair.Key, pair.Value));
            term = counted;
        };
    }

    public Task FollowsAsync() => UntilAsync(() => Status.State == CrossingState.Following, "following");

    /// <summary>Waits until a table holds the same rows on both sides.</summary>
    public async Task SameAsync(params string[] tables)
    {
        var until = DateTimeOffset.UtcNow + Patience;
        foreach (var table in tables)
        {
            string here;
            string there;
            do
            {
                // What the servers need for an answer takes from the crossing what it needs to come to an end.
                var asked = Stopwatch.GetTimestamp();
                here = await From.DigestAsync(table);
                there = await DigestThereAsync(table);
                if (here != there && DateTimeOffset.UtcNow > until)
                {
                    Assert.Fail($"{table} differs: {here} and {there}. {Describe()}; the target: {await To.ActivityAsync()}");
                }

                var pause = Stopwatch.GetElapsedTime(asked) * 2;
                await Task.Delay(here == there ? TimeSpan.Zero : pause);
            } while (here != there);
        }
    }

    public async Task UntilAsync(Func<bool> holds, string what)
    {
        var until = DateTimeOffset.UtcNow + Patience;
        while (!holds())
        {
            Assert.True(DateTimeOffset.UtcNow < until, $"Waited in vain for {what}. {Describe()}");
            await Task.Delay(20);
        }
    }

    /// <summary>Compares both sides to the end.</summary>
    public async Task<Reconciliation> CompareAsync(ComparisonScope? scope = null)
    {
        var id = await Engine.Reconcile.StartAsync(Name, scope ?? ComparisonScope.All, "test", CancellationToken.None);
        await UntilAsync(() => Engine.Reconcile.Running(Name) is null, "the comparison");
        var found = (await Engine.Reconcile.FindAsync(Name, id, CancellationToken.None))!;
        Assert.True(found.State == ReconciliationState.Done, found.Note);
        return found;
    }

    public SourceSystem Source(string connection) => (connection == "b" ? target : source).Source;

    public TargetSystem Target(string connection) => (connection == "a" ? source : target).Target;

    public ISpoolFiles SpoolOf(string connection) => new SqliteSpoolFiles(folder);

    public Task<IReadOnlyList<StoredCrossing>> LoadAsync(CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<StoredCrossing>>([.. stored.Values]);

    public Task SaveAsync(StoredCrossing crossing, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(crossing);
        stored[crossing.Definition.Name] = crossing;
        return Task.CompletedTask;
    }

    public Task DeleteAsync(string crossing, CancellationToken cancellation)
    {
        stored.Remove(crossing);
        return Task.CompletedTask;
    }

    public Task<long> NextTermAsync(string crossing, long after, CancellationToken cancellation) =>
        Task.FromResult(term = Math.Max(term, after) + 1);

    public Task AppendAsync(CrossingEvent happened, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(happened);
        lock (Said)
        {
            Said.Add(happened.Text);
        }

        return Task.CompletedTask;
    }

    public async ValueTask DisposeAsync()
    {
        await Engine.DisposeAsync();
        try
        {
            await source.Source.Log.EndLogAsync(CancellationToken.None);
        }
        catch (Engine.Faults.PortException)
        {
            // A test has taken the server down.
        }

        await source.DisposeAsync();
        await target.DisposeAsync();
        Directory.Delete(folder, recursive: true);
    }

    private async Task<string> DigestThereAsync(string table)
    {
        try
        {
            return await To.DigestAsync(table);
        }
        catch (Npgsql.PostgresException exception) when (exception.SqlState == "42P01")
        {
            return "no such table";
        }
    }

    public string Describe() =>
        $"{Status.State}; fault: {Status.Fault?.What}; waiting: {Status.Waiting?.What}; capture: {Status.Capture?.Waiting}; "
        + $"spooled and applied points are {Status.SpooledAge} and {Status.AppliedAge} old; said: "
        + $"{string.Join(" | ", Said.TakeLast(8))}";

    private sealed class NoCipher : ISpoolCipher
    {
        public byte[] Seal(ReadOnlySpan<byte> plain) => plain.ToArray();

        public byte[] Open(ReadOnlySpan<byte> secret) => secret.ToArray();
    }
}
