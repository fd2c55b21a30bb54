using System.Collections.Immutable;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Alerting;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Measuring;
using Vestige.Engine.Observing;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Rewinding;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Workers;

/// <summary>A crossing within the engine. Its fields change under <see cref="Lock"/> or by the engine's timer only.</summary>
internal sealed class CrossingEntry(StoredCrossing stored, Quarantine quarantine, Verdicts verdicts, RewindQueue rewinds)
{
    private readonly Lock gate = new();
    private volatile TableOptions? ways;
    private volatile OrderedTables? ordered;
    private TargetProgress before = TargetProgress.None;

    public StoredCrossing Stored { get; set; } = stored;

    /// <summary>Whether it was removed: nothing is done for it any more.</summary>
    public bool IsRemoved { get; set; }

    /// <summary>The last that was started; null when none was.</summary>
    public CrossingWorker? Worker { get; private set; }

    public CrossingMeter Meter { get; } = new();

    /// <summary>The changes that wait since the target refuses them.</summary>
    public Quarantine Quarantine => quarantine;

    /// <summary>What comparing has said of its tables.</summary>
    public Verdicts Verdicts => verdicts;

    /// <summary>What its worker is asked to repair.</summary>
    public RepairQueue Repairs { get; } = new();

    /// <summary>What its worker is asked to apply again.</summary>
    public RewindQueue Rewinds => rewinds;

    public HeldTimes Held { get; } = new();

    /// <summary>Its tables as pages list them.</summary>
    public TableListing Listing { get; } = new();

    public FirstStart FirstStart { get; } = new();

    /// <summary>What the target last said, for a crossing that does not run; null while it runs and until it was asked.</summary>
    public TargetProgress? Known { get; private set; }

    /// <summary>What its definition says of tables.</summary>
    public TableOptions Ways
    {
        get
        {
            var (known, definition) = (ways, Stored.Definition);
            return known is not null && ReferenceEquals(known.Definition, definition) ? known : ways = new TableOptions(definition);
        }
    }

    /// <summary>What the target holds, as far as that is known now: until a worker has asked it, what was known before.</summary>
    public TargetProgress Progress =>
        Known
        ?? Worker?.View switch
        {
            { Applied: null, Tables.IsEmpty: true } => before,
            { } view => new TargetProgress(null, view.Applied, InOrder(view.Tables)),
            null => TargetProgress.None,
        };

    /// <summary>What the spool knows of the applied position, as of the last second.</summary>
    public SpooledPosition? Place { get; set; }

    /// <summary>Beats when a person does not want to wait for the next attempt to open it.</summary>
    public AsyncSignal Retry { get; } = new();

    /// <summary>Why what it needs could not be opened; null when it was.</summary>
    public CrossingFault? Trouble { get; set; }

    public bool Checking { get; set; }

    /// <summary>What held when it was started and does not any more, as last checked; null before it was checked in this process.</summary>
    public IReadOnlyList<Need>? NotReady { get; set; }

    /// <summary>When the next run of its schedule begins; null without a schedule, and while it is not known.</summary>
    public DateTimeOffset? NextRun { get; set; }

    /// <summary>When the last run of its schedule ended; null when none has in this process.</summary>
    public DateTimeOffset? RunEndedAt { get; set; }

    /// <summary>The run that continues; null between runs.</summary>
    public RunBegin? Run { get; set; }

    /// <summary>The asking for it that continues, or the last.</summary>
    public Task Diagnosing { get; set; } = Task.CompletedTask;

    /// <summary>Whether the target has said in this process what it holds; until then nothing is known of its tables.</summary>
    public bool IsKnown =>
        Known is not null
        || Worker is { Running.IsCompleted: true }
        || Worker is { Found: not null }
        || Worker?.View is { Tables.IsEmpty: false };

    /// <summary>What the target last said the call in hand waits for; null when it said nothing, or needs not be asked.</summary>
    public string? Diagnosis { get; set; }

    /// <summary>Whether it was last seen to keep up.</summary>
    public bool KeepsUp { get; set; }

    public CrossingState LastState { get; set; } = CrossingState.Draft;

    public DateTimeOffset StateSince { get; set; } = stored.Since;

    /// <summary>One request at a time.</summary>
    public AsyncLock Lock { get; } = new();

    public string Name => Stored.Definition.Name;

    /// <summary>By name. Of thousands of tables that follow, none changes from one look to the next: they are put in order once.</summary>
    private IReadOnlyList<TableProgress> InOrder(ImmutableDictionary<TableName, TableProgress> tables)
    {
        var last = ordered;
        if (last is null || !ReferenceEquals(last.Of, tables))
        {
            ordered = last = new OrderedTables(tables, [.. tables.Values.OrderBy(table => table.Table)]);
        }

        return last.Tables;
    }

    /// <summary>Says when the next run begins, unless one was begun meanwhile.</summary>
    public void Plan(DateTimeOffset? next)
    {
        lock (gate)
        {
            if (Worker is null or { Running.IsCompleted: true })
            {
                NextRun = next;
            }
        }
    }

    /// <summary>Brings its worker to rest, if one runs.</summary>
    public async Task HaltAsync(StopRequest request)
    {
        if (Worker is { } worker)
        {
            worker.Steering.Stop(request);
            await worker.Running;
        }
    }

    /// <summary>A worker runs it from now on; what the target said before does not count any more.</summary>
    public void RunBy(CrossingWorker worker)
    {
        lock (gate)
        {
            before = Progress;
            Worker = worker;
            Known = null;
            NextRun = null;
        }
    }

    /// <summary>Keeps what the target said; false when another worker was started since it was asked.</summary>
    public bool Learn(TargetProgress progress, CrossingWorker? asked)
    {
        lock (gate)
        {
            if (!ReferenceEquals(Worker, asked))
            {
                return false;
            }

            Known = progress;
            return true;
        }
    }

    private sealed record OrderedTables(ImmutableDictionary<TableName, TableProgress> Of, IReadOnlyList<TableProgress> Tables);
}
