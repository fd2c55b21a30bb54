using Vestige.Connectors.StandIn;
using Vestige.Core.Crossings;
using Vestige.Demo.Catalogue;
using Vestige.Demo.Circulation;
using Vestige.Demo.Workload;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Web.Connections;

namespace Vestige.Web.Hosting;

/// <summary>Fills an empty data folder with the demo, and keeps its workload running.</summary>
public sealed class DemoSetup(
    ConnectionDirectory connections,
    CrossingEngine engine,
    VestigeSettings settings,
    TimeProvider clock,
    ILogger<DemoSetup> logger
) : IAsyncDisposable
{
    public const double FirstRate = 400;
    private const string Warehouse = "warehouse";
    private const string Ledger = "ledger";
    private const int Seed = 20261;
    private readonly CancellationTokenSource stopping = new();
    private CirculationWorkload? workload;
    private Task states = Task.CompletedTask;
    private bool hasEnded;

    /// <summary>The work on a database of the demo; null where there is none.</summary>
    public CirculationWorkload? WorkloadOf(string connection) => connection == CirculationSchema.Name ? workload : null;

    /// <summary>Whether the demo is in this data folder.</summary>
    public bool Present => connections.Find(CirculationSchema.Name) is not null && File.Exists(Marker);

    private string Marker => Path.Combine(settings.DataFolder, "demo");

    private string StatesMarker => Path.Combine(settings.DataFolder, "demo-states");

    /// <summary>Makes the databases and their connections, once. Interrupted, it begins again.</summary>
    public async Task FillAsync(CancellationToken cancellation)
    {
        if (connections.All.Count > 0 || File.Exists(Marker))
        {
            return;
        }

        string[] names =
        [
            CirculationSchema.Name,
            Warehouse,
            Ledger,
            .. settings.WithDemoStates ? DemoStates.Targets.Prepend(CatalogueSeed.Name) : [],
        ];
        foreach (var name in names)
        {
            Clear(PathOf(name));
        }

        var none = new Dictionary<string, string>();
        var source = StandInDatabase.Open(PathOf(CirculationSchema.Name), CirculationSchema.Name, new StandInOptions(), clock);
        await using (source)
        {
            await new CirculationSeed(Seed, settings.DemoLoans, clock.GetUtcNow()).RunAsync(source, cancellation);
        }

        if (settings.WithDemoStates)
        {
            await using var catalogue = StandInDatabase.Open(PathOf(CatalogueSeed.Name), CatalogueSeed.Name, new StandInOptions(), clock);
            await new CatalogueSeed(Seed).RunAsync(catalogue, cancellation);
        }

        foreach (var name in names)
        {
            await connections.SaveAsync(new ConnectionDefinition(name, StandInKind.Name, none, HasSecret: false), null, cancellation);
        }

        await File.WriteAllTextAsync(Marker, "The demo was made in this folder.\n", cancellation);
    }

    /// <summary>
    /// Starts the workload and, the first time, the crossing; a second one stays a draft. Others are brought to their states beside it.
    /// </summary>
    public async Task StartAsync(CancellationToken cancellation)
    {
        if (!Present)
        {
            return;
        }

        workload = new CirculationWorkload(connections.Find<StandInConnector>(CirculationSchema.Name)!.Database, Seed, clock)
        {
            Rate = FirstRate,
        };
        workload.Start();
        if (engine.Statuses.Count > 0)
        {
            BringToStates();
            return;
        }

        await engine.DefineAsync(
            Definition("circulation-to-warehouse", Warehouse, new TableRule(Take: "circulation.*")),
            "demo",
            cancellation
        );
        await engine.DefineAsync(
            Definition("fines-to-ledger", Ledger, new TableRule(Take: "circulation.fine"), new TableRule(Take: "circulation.payment")),
            "demo",
            cancellation
        );
        await engine.RunAsync("circulation-to-warehouse", "demo", cancellation);
        BringToStates();
    }

    /// <summary>Once; what a person changes afterwards is left as it is.</summary>
    private void BringToStates()
    {
        if (settings.WithDemoStates && !File.Exists(StatesMarker) && connections.Find(CatalogueSeed.Name) is not null)
        {
            states = BringToStatesAsync();
        }
    }

    private async Task BringToStatesAsync()
    {
        await Task.Yield();
        try
        {
            await new DemoStates(engine, RunAsync).MakeAsync(stopping.Token);
            await File.WriteAllTextAsync(StatesMarker, "The demo's crossings were brought to their states.\n", stopping.Token);
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException or TimeoutException)
        {
            logger.LogWarning("The demo's crossings are not all in their states: {Reason}", exception.Message);
        }
        catch (OperationCanceledException)
        {
            // The process ends; the next one continues.
        }
    }

    private async Task RunAsync(string connection, string[] statements, CancellationToken cancellation)
    {
        using var transaction = await connections.Find<StandInConnector>(connection)!.Database.BeginAsync(cancellation: cancellation);
        foreach (var statement in statements)
        {
            transaction.Run(statement);
        }

        transaction.Commit();
    }

    public async ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref hasEnded, true))
        {
            return;
        }

        await stopping.CancelAsync();
        await states;
        if (workload is not null)
        {
            await workload.DisposeAsync();
        }

        stopping.Dispose();
    }

    private static CrossingDefinition Definition(string name, string target, params TableRule[] rules) =>
        new(name, CrossingDefinition.Copy, CirculationSchema.Name, target, new TableRules(rules));

    private string PathOf(string name) => settings.FileOf(StandInKind.Folder, name);

    private static void Clear(string path)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(path)!);
        foreach (var ending in new[] { "", "-wal", "-shm" })
        {
            File.Delete(path + ending);
        }
    }
}
