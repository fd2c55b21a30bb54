using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Alerting;
using Vestige.Engine.Capturing;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Observing;
using Vestige.Engine.Ports;
using Vestige.Engine.Rewinding;
using Vestige.Engine.Structures;
using Vestige.Engine.Tracing;
using Vestige.Engine.Treating;
using Vestige.Engine.Undoing;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>
/// Runs all crossings of one process: resumes at the start what ran before, takes what people ask for, and tells how each
/// crossing stands. What was asked is stored before it is done. Safe for several threads.
/// </summary>
public sealed class CrossingEngine : IAsyncDisposable
{
    private readonly IConnections connections;
    private readonly IControlStore store;
    private readonly IMaskKeys keys;
    private readonly EngineOptions options;
    private readonly TimeProvider clock;
    private readonly Captures captures;
    private readonly CrossingDefinitions definitions;
    private readonly CrossingPlanner planner;
    private readonly CrossingRegistry registry;
    private readonly CrossingOpener opener;
    private readonly CrossingSampler sampler;
    private readonly MeasureRecorder? measureRecorder;
    private readonly CrossingEditor editor;
    private readonly CrossingStart starting;
    private readonly CrossingRest rest;
    private readonly CrossingPacing pacing;
    private readonly CrossingReload reload;
    private readonly IRunStore? runs;
    private readonly RunRecorder runRecorder;
    private readonly EngineWatch watch;
    private bool hasEnded;

    public CrossingEngine(
        IConnections connections,
        EngineStores stores,
        EngineSecrets secrets,
        EngineOptions options,
        TimeProvider clock,
        Random random,
        ILogger logger
    )
    {
        ArgumentNullException.ThrowIfNull(stores);
        ArgumentNullException.ThrowIfNull(secrets);
        (this.connections, this.clock) = (connections, clock);
        (store, runs, keys) = (stores.Control, stores.Runs, secrets.Masks);
        Events = new EventLog(store, clock, logger);
        var services = new EngineServices(connections, stores, secrets, options)
        {
            Events = Events,
            Clock = clock,
            Random = random,
            Logger = logger,
        };
        this.options = options;
        registry = new CrossingRegistry(stores);
        captures = new Captures(services, new RestoredBackup(connections, registry, stores.Quarantine).MissingAsync);
        Positions = new SourcePositions(connections, captures);
        var loops = new LoopCheck(connections, registry, clock);
        definitions = new CrossingDefinitions(connections, store, registry, loops, Events, clock);
        planner = new CrossingPlanner(connections, keys, captures, loops, clock);
        runRecorder = new RunRecorder(runs, clock, logger);
        opener = new CrossingOpener(services, registry, captures, runRecorder);
        measureRecorder = stores.Measures is { } measures ? new MeasureRecorder(measures, logger) : null;
        Alerts = stores.Alerts is { } alerts ? new AlertService(alerts, Events, clock, logger) : null;
        sampler = new CrossingSampler(services, registry, captures, opener, runRecorder, measureRecorder, Alerts);
        starting = new CrossingStart(connections, registry, opener, new(connections, captures), PlanAsync, DesireAsync, Events);
        rest = new CrossingRest(connections, captures, registry, DesireAsync, Events, clock);
        pacing = new CrossingPacing(store, registry, opener, Events);
        editor = new CrossingEditor(services, registry, opener, pacing, PlanAsync, TreatmentOf);
        var copies = new OwnCopies(registry, TreatmentOf);
        Undo = new TableUndo(services, copies);
        Tables = new CrossingTables(services, registry, editor, opener, copies, Undo);
        Past = new PastTrials(registry, captures, TreatmentOf, clock);
        Rewinds = new RewindService(services, registry, captures, TreatmentOf);
        Structure = new StructureService(services, registry, TreatmentOf);
        Held = new HeldTables(services, captures, registry, opener, editor);
        reload = new CrossingReload(services, captures, registry, opener, Undo, TablesOf, DesireAsync);
        Trace = new Tracer(connections, registry, captures, secrets.Spool, OwnTreatmentOf);
        Quarantine = new QuarantineService(registry, store, Events, clock);
        Reconcile = new ReconcileService(services, registry, captures, TreatmentOf);
        watch = new EngineWatch(services, registry, opener, sampler, editor, Reconcile.Runner, Structure);
    }

    public EventLog Events { get; }

    /// <summary>What needs someone; null where that is not watched.</summary>
    public AlertService? Alerts { get; }

    /// <summary>Positions as people write them, and the joins of logs.</summary>
    public SourcePositions Positions { get; }

    /// <summary>Rows and transactions on their way.</summary>
    public Tracer Trace { get; }

    /// <summary>What waits since targets refuse it, and what is decided about it.</summary>
    public QuarantineService Quarantine { get; }

    /// <summary>The tables of crossings that were started: added and removed.</summary>
    public CrossingTables Tables { get; }

    /// <summary>Tables that were dropped on targets and can be restored.</summary>
    public TableUndo Undo { get; }

    /// <summary>Changes that are applied again.</summary>
    public RewindService Rewinds { get; }

    /// <summary>Indexes and constraints that targets lack.</summary>
    public StructureService Structure { get; }

    /// <summary>Where definitions are tried on what was replicated.</summary>
    public PastTrials Past { get; }

    /// <summary>Tables that wait for a person, since they were changed at the source.</summary>
    public HeldTables Held { get; }

    /// <summary>Where both sides are compared, and what differs is repaired.</summary>
    public ReconcileService Reconcile { get; }

    public bool Started { get; private set; }

    /// <summary>Loads the definitions and continues with every crossing that ran.</summary>
    public async Task StartAsync(CancellationToken cancellation)
    {
        await RecallAsync(cancellation);
        foreach (var entry in registry.All)
        {
            using var locked = await entry.Lock.EnterAsync(cancellation);
            if (entry.Stored.NeedsLog)
            {
                await opener.OpenAsync(entry, cancellation);
            }
        }

        watch.Start();
        Started = true;
    }

    /// <summary>Reads what is kept of each crossing. A start that failed half-way may be tried again.</summary>
    private async Task RecallAsync(CancellationToken cancellation)
    {
        foreach (var stored in (await store.LoadAsync(cancellation)).Where(stored => registry.Find(stored.Definition.Name) is null))
        {
            registry.Add(stored);
        }

        foreach (var entry in measureRecorder is null ? [] : registry.All)
        {
            await measureRecorder!.RecallAsync(entry.Name, entry.Meter, clock.GetUtcNow(), cancellation);
        }

        // Someone may ask for a crossing as soon as it is in the registry: each has one worker all the same, and keeps what that has read.
        foreach (var entry in registry.All)
        {
            using var locked = await entry.Lock.EnterAsync(cancellation);
            if (entry.Worker is null)
            {
                await entry.Quarantine.RecallAsync(cancellation);
                await entry.Verdicts.RecallAsync(cancellation);
                await entry.Rewinds.RecallAsync(cancellation);
            }
        }

        await (runs?.CloseAsync(cancellation) ?? Task.CompletedTask);
        await Reconcile.BeginAsync(cancellation);
        await (Alerts?.RecallAsync(cancellation) ?? Task.CompletedTask);
    }

    private IReadOnlyList<TableName> TablesOf(CrossingEntry entry) => [.. sampler.StatusOf(entry).Tables.Select(table => table.Source)];

    /// <summary>Time spent in watching, since the process started: measures, states and alerts of all crossings.</summary>
    public TimeSpan SpentWatching => sampler.Spent;

    /// <summary>Of that, in keeping measures alone.</summary>
    public TimeSpan SpentMeasuring => sampler.SpentMeasuring;

    /// <summary>Every crossing, by name.</summary>
    public IReadOnlyList<CrossingStatus> Statuses => [.. registry.All.Select(sampler.StatusOf)];

    /// <summary>The reading of every source that is read.</summary>
    public IReadOnlyList<CaptureStatus> CaptureStatuses => [.. captures.All.Select(capture => capture.Status)];

    /// <summary>How a crossing stands; null when there is none of that name.</summary>
    public CrossingStatus? Status(string crossing) => registry.Find(crossing) is { } entry ? sampler.StatusOf(entry) : null;

    /// <summary>The run of a crossing that continues, as far as it has come; null between runs, and for a name that is not there.</summary>
    public CrossingRun? RunNow(string crossing) => registry.Find(crossing) is { } entry ? RunRecorder.Now(entry) : null;

    /// <summary>Its measures; null when there is none of that name.</summary>
    public CrossingMeter? Meter(string crossing) => registry.Find(crossing)?.Meter;

    /// <summary>Keeps a new definition, or another one for a crossing that does not run. Nothing starts.</summary>
    /// <param name="definition">The definition.</param>
    /// <param name="by">Who asks.</param>
    /// <param name="cancellation">Gives up.</param>
    /// <param name="verify">
    /// Throws when the definition that is kept is not the one that this was made from; asked while no other can be kept. Null where that
    /// does not matter.
    /// </param>
    public Task DefineAsync(
        CrossingDefinition definition,
        string by,
        CancellationToken cancellation,
        Func<CancellationToken, Task>? verify = null
    )
    {
        ArgumentNullException.ThrowIfNull(definition);
        return definitions.DefineAsync(definition, by, verify, cancellation);
    }

    /// <summary>
    /// Does something that depends on which definitions there are, while none comes or goes, as removing a connection that none names.
    /// </summary>
    public async Task AmongDefinitionsAsync(Func<Task> change, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(change);
        using var alone = await definitions.EnterAsync(cancellation);
        await change();
    }

    /// <summary>
    /// What another definition would mean for a crossing that was started. Reads only. Throws
    /// <see cref="RequestRefusedException"/> where it would be another crossing.
    /// </summary>
    public Task<DefinitionChange> CompareAsync(CrossingDefinition definition, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(definition);
        return editor.CompareAsync(definition, cancellation);
    }

    /// <summary>
    /// Gives a crossing that was started another definition. Throws <see cref="NotReadyException"/> with every check when that cannot
    /// be done, and <see cref="LossRefusedException"/> when it would destroy what is on the target and is not the crossing's, and
    /// the crossing's name was not typed; nothing is changed then.
    /// </summary>
    public async Task ChangeAsync(
        CrossingDefinition definition,
        string by,
        CancellationToken cancellation,
        string? typed = null,
        Func<CancellationToken, Task>? verify = null
    )
    {
        ArgumentNullException.ThrowIfNull(definition);
        CrossingPacing.CheckTimes(definition);
        var compared = registry.Find(definition.Name)?.Stored.Definition.Reconcile;
        await editor.ChangeAsync(definition, by, typed, cancellation, verify);
        if (definition.Reconcile != compared)
        {
            await Reconcile.Runner.EndWalkAsync(definition.Name, cancellation);
        }
    }

    /// <summary>
    /// Says when a crossing runs, when nothing is applied, how much at most, and by which words it is found. In force at once; a run at
    /// hand goes on. Throws <see cref="RequestRefusedException"/> when something of it cannot be.
    /// </summary>
    public Task PaceAsync(string crossing, Func<CrossingDefinition, CrossingDefinition> change, string by, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(change);
        return pacing.PaceAsync(crossing, change, by, cancellation);
    }

    /// <summary>
    /// What a definition makes of rows; reaches nothing. Throws <see cref="RequestRefusedException"/> when a connection is unknown.
    /// </summary>
    public CrossingTreatment TreatmentOf(CrossingDefinition definition)
    {
        ArgumentNullException.ThrowIfNull(definition);
        return new CrossingTreatment(definition, connections.Source(definition.Source), connections.Target(definition.Target), keys)
        {
            HiddenByOthers = form => Trace.MaskedColumns(definition.Source, form),
        };
    }

    /// <summary>The same without what others hide.</summary>
    private CrossingTreatment OwnTreatmentOf(CrossingDefinition definition) =>
        new(definition, connections.Source(definition.Source), connections.Target(definition.Target), keys);

    /// <summary>
    /// Lets whatever of a crossing waits for its next attempt make it now. Throws <see cref="RequestRefusedException"/> when there is no
    /// such crossing, or nothing of it waits.
    /// </summary>
    public void RetryNow(string crossing)
    {
        var entry = registry.Existing(crossing);
        var capture = captures.Find(entry.Stored.Definition.Source);
        if (entry.Worker?.View.Waiting is null && entry.Trouble is null && capture?.Status.Running != false)
        {
            throw new RequestRefusedException($"{crossing} is not waiting for an attempt.") { Remedy = "Nothing needs to be done." };
        }

        entry.Worker?.Steering.Retry.Beat();
        entry.Retry.Beat();
        capture?.RetryNow();
    }

    /// <summary>Rows a second of the last load into a target; null when none was measured by this process.</summary>
    public double? LoadRate(string target) => sampler.LoadRate(target);

    /// <summary>What a start would do. Reads only.</summary>
    public Task<CrossingPlan> PlanAsync(CrossingDefinition definition, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(definition);
        var measured = sampler.LoadRate(definition.Target);
        return planner.PlanAsync(definition, (measured ?? options.AssumedRowsPerSecond, measured is not null), cancellation);
    }

    /// <summary>
    /// Starts, or goes on from the place kept. A first start is checked; throws <see cref="NotReadyException"/> with every
    /// check when it cannot be made, and <see cref="LossRefusedException"/> when it would destroy something on the target and the
    /// crossing's name was not typed.
    /// </summary>
    public Task RunAsync(string crossing, string by, CancellationToken cancellation, string? typed = null) =>
        starting.RunAsync(crossing, by, typed, cancellation);

    /// <summary>
    /// Lets the source's log be kept from now on for a draft that carries changes only, so that its tables can be loaded by other
    /// means meanwhile. Returns when it is certain after which position all of their changes are held; that waits for every
    /// transaction that is open now. Throws <see cref="NotReadyException"/> with every check when the source cannot be read.
    /// </summary>
    public Task<LogPosition> KeepLogAsync(string crossing, string by, CancellationToken cancellation) =>
        starting.KeepLogAsync(crossing, by, cancellation);

    /// <summary>Brings it to rest after the transaction in hand, its place kept. Returns when it rests.</summary>
    public Task PauseAsync(string crossing, string by, CancellationToken cancellation) => rest.PauseAsync(crossing, by, cancellation);

    /// <summary>
    /// Brings it to rest in one of three ways. Drain returns at once, continues to the end of what is captured, and still does after
    /// a restart; the others return when it rests.
    /// </summary>
    public Task StopAsync(string crossing, StopMode mode, string by, CancellationToken cancellation) =>
        rest.StopAsync(crossing, mode, by, cancellation);

    /// <summary>
    /// Lets it go on to a mark and stop there: the target then holds exactly the source's state at the mark. Returns at once; a restart
    /// in between goes on to it. Throws <see cref="RequestRefusedException"/> for a mark that the target has passed, or may have.
    /// </summary>
    /// <param name="crossing">A crossing that runs.</param>
    /// <param name="wanted">The mark; null for all that is committed at the source as of now.</param>
    /// <param name="by">Who asks.</param>
    /// <param name="cancellation">Gives up before anything is asked.</param>
    public Task StopAtAsync(string crossing, StopMark? wanted, string by, CancellationToken cancellation) =>
        rest.StopAtAsync(crossing, wanted, by, cancellation);

    /// <summary>
    /// Loads tables again, all of them when none are named: their rows on the target are deleted first. The crossing runs
    /// afterwards.
    /// </summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="tables">The source's tables; empty for all.</param>
    /// <param name="by">Who asks for it.</param>
    /// <param name="cancellation">Gives up before it begins.</param>
    /// <param name="undoHours">
    /// For how many hours the present copies can be restored, 1 to 720; null where they are emptied. Where they cannot be kept it throws
    /// <see cref="RequestRefusedException"/>, and <see cref="PortException"/> where the target refuses; nothing is loaded then.
    /// </param>
    public Task ReloadAsync(
        string crossing,
        IReadOnlyList<TableName> tables,
        string by,
        CancellationToken cancellation,
        int? undoHours = null
    )
    {
        ArgumentNullException.ThrowIfNull(tables);
        var treating = TreatmentOf(registry.Existing(crossing).Stored.Definition);
        return reload.ReloadAsync(crossing, tables, by, new DroppedCopies(undoHours), treating, cancellation);
    }

    /// <summary>What it would mean to load tables again, all where none is named. Throws where there is no such crossing.</summary>
    public ReloadPlan ReloadPlanOf(string crossing, IReadOnlyList<TableName> tables)
    {
        ArgumentNullException.ThrowIfNull(tables);
        return reload.PlanOf(crossing, tables, TreatmentOf(registry.Existing(crossing).Stored.Definition));
    }

    /// <summary>Removes a crossing that does not run: its definition and its progress on the target; the rows stay.</summary>
    public async Task RemoveAsync(string crossing, string by, CancellationToken cancellation, Func<CancellationToken, Task>? verify = null)
    {
        using var locked = await registry.EnterAsync(crossing, cancellation);
        var entry = locked.Entry;
        using var alone = await definitions.EnterAsync(cancellation);
        await (verify?.Invoke(cancellation) ?? Task.CompletedTask);
        if (entry.Worker is { Running.IsCompleted: false })
        {
            throw new RequestRefusedException($"{crossing} is running.") { Remedy = "Stop it first." };
        }

        if (entry.Stored.Begun)
        {
            await connections.Target(entry.Stored.Definition.Target).Progress.ForgetAsync(crossing, cancellation);
        }

        await entry.Quarantine.ForgetAsync(cancellation);
        await entry.Verdicts.ForgetAsync(null, cancellation);
        await Rewinds.ForgetAsync(entry, cancellation);
        await store.DeleteAsync(crossing, cancellation);
        registry.Remove(entry);
        if (measureRecorder is not null)
        {
            await measureRecorder.ForgetAsync(crossing, cancellation);
        }

        captures.Find(entry.Stored.Definition.Source)?.Spool.Release(crossing);
        await Events.OfCrossingAsync(crossing, EventKind.Note, "Removed.", by);
        var source = entry.Stored.Definition.Source;
        if (entry.Stored.NeedsLog && !registry.All.Any(other => other.Stored.Definition.Source == source && other.Stored.NeedsLog))
        {
            await captures.EndAsync(source, cancellation);
        }
    }

    /// <summary>Ends the process's work: every crossing rests where it is and continues at the next start. Once only.</summary>
    public async ValueTask DisposeAsync()
    {
        if (Interlocked.Exchange(ref hasEnded, true))
        {
            return;
        }

        opener.End();
        await watch.EndAsync();
        await Reconcile.Runner.EndAsync();
        await Reconcile.Backfills.EndAsync();
        await Structure.DisposeAsync();
        foreach (var entry in registry.All)
        {
            await entry.HaltAsync(new StopRequest(StopMode.Now));
            await runRecorder.CloseAsync(entry);
        }

        await captures.DisposeAsync();
        opener.Dispose();
        watch.Dispose();
    }

    private async Task DesireAsync(CrossingEntry entry, DesiredState desired, string by, StopMark? until, CancellationToken cancellation)
    {
        var stored = entry.Stored with { Desired = desired, By = by, Since = clock.GetUtcNow(), Until = until };
        await store.SaveAsync(stored, cancellation);
        entry.Stored = stored;
    }
}
