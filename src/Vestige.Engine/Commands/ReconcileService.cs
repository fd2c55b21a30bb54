using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Backfilling;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Observing;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Where people have both sides of a crossing compared. A comparison runs beside the crossing, which continues meanwhile; one at a time
/// for each crossing. Throws <see cref="RequestRefusedException"/> for what cannot be. Safe for several threads.
/// </summary>
public sealed class ReconcileService
{
    private readonly IConnections connections;
    private readonly CrossingRegistry registry;
    private readonly Captures captures;
    private readonly IControlStore control;
    private readonly IReconciliationStore? store;
    private readonly EventLog events;

    internal ReconcileService(
        EngineServices services,
        CrossingRegistry registry,
        Captures captures,
        Func<CrossingDefinition, CrossingTreatment> treat
    )
    {
        (this.registry, this.captures) = (registry, captures);
        (connections, control, store) = (services.Connections, services.Stores.Control, services.Stores.Reconciliations);
        events = services.Events;
        var views = new ComparisonViews(connections, captures, services.Clock);
        Repairs = new RepairService(registry, connections, store, events, services.Clock, (entry, _) => views.RequestOf(entry));
        Runner = new ComparisonRunner(services, views, treat, Repairs);
        Backfills = new BackfillService(services, registry, Repairs, views.RequestOf, treat);
    }

    /// <summary>Runs the comparisons.</summary>
    internal ComparisonRunner Runner { get; }

    /// <summary>Where what differs is repaired.</summary>
    public RepairService Repairs { get; }

    /// <summary>Where rows of a range are written as the source has them.</summary>
    public BackfillService Backfills { get; }

    /// <summary>Begins a comparison, and returns its id.</summary>
    public async Task<string> StartAsync(string crossing, ComparisonScope scope, string by, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(scope);
        var entry = registry.Existing(crossing);
        Check(entry, scope);
        await Runner.EndWalkAsync(crossing, cancellation);
        var id = await Runner.RunAsync(entry, scope, by, null, cancellation);
        await events.OfCrossingAsync(crossing, EventKind.Note, $"Comparing {scope.Words}.", by);
        return id;
    }

    /// <summary>The comparison at work on a crossing; null when none is.</summary>
    public Reconciliation? Running(string crossing) => Runner.Find(crossing)?.Now;

    /// <summary>The table at work, and the part of how many; null when none is.</summary>
    public (TableName Table, int Part, int Of)? At(string crossing) => Runner.Find(crossing)?.At;

    /// <summary>The comparisons of a crossing, the latest first, without their rows and segments.</summary>
    public async Task<IReadOnlyList<Reconciliation>> ListAsync(string crossing, CancellationToken cancellation) =>
        store is null ? [] : await store.ListAsync(crossing, 100, cancellation);

    /// <summary>A comparison with all that was found; null when there is none of that id.</summary>
    public async Task<Reconciliation?> FindAsync(string crossing, string id, CancellationToken cancellation) =>
        Runner.Find(crossing) is { } now && now.Now.Id == id ? now.Shown
        : store is null ? null
        : await store.FindAsync(crossing, id, cancellation);

    /// <summary>What was said of the tables of a crossing; null when there is none of that name.</summary>
    public IReadOnlyCollection<Verdict>? Verdicts(string crossing) => registry.Find(crossing)?.Verdicts.All;

    /// <summary>Gives up the comparison at work; what it has found stays.</summary>
    public async Task CancelAsync(string crossing, string by, CancellationToken cancellation)
    {
        if (Runner.Find(crossing) is not { } now)
        {
            throw new RequestRefusedException("No comparison is at work.") { Remedy = "Look at what was found." };
        }

        await now.Ending.CancelAsync();
        await now.Work.WaitAsync(cancellation);
        await events.OfCrossingAsync(crossing, EventKind.Note, "The comparison was given up.", by);
    }

    /// <summary>
    /// Compares again the tables of which rows were repaired, for a repair is not believed but looked at. Its id; null where a comparison
    /// is at work already, after which a rule has them come first.
    /// </summary>
    public async Task<string?> CompareAgainAsync(string crossing, Repair repair, string by, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(repair);
        try
        {
            return await StartAsync(crossing, new ComparisonScope([.. repair.Rows.Select(row => row.Source).Distinct()]), by, cancellation);
        }
        catch (RequestRefusedException)
        {
            return null;
        }
    }

    /// <summary>Lets a person's rule for comparing all the time hold from now on; null for never.</summary>
    public async Task SetRuleAsync(string crossing, ReconcileRule? rule, string by, CancellationToken cancellation)
    {
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        var definition = entry.Stored.Definition with { Reconcile = rule };
        if (rule?.Times is { } times)
        {
            CronTimes.Check(times);
        }

        if (
            DefinitionRules.Check(definition).FirstOrDefault(problem => problem.Field.StartsWith("reconcile", StringComparison.Ordinal)) is
            { } problem
        )
        {
            throw new RequestRefusedException($"{problem.Field}: {problem.Found}.") { Remedy = problem.Remedy };
        }

        var stored = entry.Stored with { Definition = definition };
        await control.SaveAsync(stored, cancellation);
        entry.Stored = stored;
        await Runner.EndWalkAsync(crossing, cancellation);
        await events.OfCrossingAsync(
            crossing,
            EventKind.Note,
            rule is null ? "Comparing: only when asked." : $"Comparing: {rule.Words}.",
            by
        );
    }

    /// <summary>Takes over what an earlier process left.</summary>
    internal Task BeginAsync(CancellationToken cancellation) => store?.CloseAsync(cancellation) ?? Task.CompletedTask;

    private void Check(CrossingEntry entry, ComparisonScope scope)
    {
        if (!entry.Stored.Begun || !entry.Stored.NeedsLog || captures.Find(entry.Stored.Definition.Source) is null)
        {
            throw new RequestRefusedException(
                entry.Stored.Begun
                    ? $"{entry.Name} does not read its source's log any more, so that what changed there since cannot be told from "
                        + "what differs."
                    : $"{entry.Name} was never started."
            )
            {
                Remedy = entry.Stored.Begun ? "Load it again, and compare before it ends." : "Start it.",
            };
        }

        // A side that cannot be read for comparing says so here.
        _ = connections.Source(entry.Stored.Definition.Source).Views;
        _ = connections.Target(entry.Stored.Definition.Target).Views;

        if (scope.Tables.FirstOrDefault(table => !entry.Stored.Definition.Tables.Takes(table)) is { Name: not null } other)
        {
            throw new RequestRefusedException($"{entry.Name} does not replicate {other}.")
            {
                Remedy = "Name replicated tables of the source.",
            };
        }

        if (scope.Sample is < 1 or > 1_000_000)
        {
            throw new RequestRefusedException($"A sample of {scope.Sample} rows cannot be drawn.") { Remedy = "Give 1 to 1,000,000." };
        }

        if ((scope.From is not null || scope.Before is not null) && (scope.Tables.Count != 1 || scope.Sample is not null || scope.Changed))
        {
            throw new RequestRefusedException("A range of keys is of one table, and of all its rows in it.")
            {
                Remedy = "Choose one table.",
            };
        }
    }
}
