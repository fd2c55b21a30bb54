using System.Collections.Immutable;
using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Shapes;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Workers;

/// <summary>
/// Runs one crossing until it is asked to rest or cannot go on. A turn begins with a new term and a new session on the
/// target, whose progress alone says where to go on; when anything fails that waiting may mend, the turn is given up and
/// the next one begins after a pause.
/// </summary>
public sealed class CrossingWorker
{
    private const int BatchBytes = 4 << 20;
    private readonly WorkerContext context;
    private readonly CrossingDefinition definition;
    private readonly Capture capture;
    private readonly IControlStore store;
    private readonly TimeProvider clock;
    private readonly WorkerState state;
    private readonly Quarantine quarantine;
    private readonly RateLimiter limiter;
    private readonly WorkerRests rests;
    private readonly TableSync sync;
    private readonly AsideNotices notices;
    private readonly WorkerTroubles troubles;
    private readonly PassageNotices passages;
    private readonly LoadPauses pauses;
    private volatile ITargetWork? atWork;
    private TablesBeside? beside;

    /// <summary>The term that the target knows and the store does not, as when the store was restored from an older backup.</summary>
    private long succeededBy;

    internal CrossingWorker(WorkerContext context, CrossingEntry entry, IControlStore store, Random random)
    {
        this.context = context;
        (definition, capture, clock) = (context.Definition, context.Capture, context.Clock);
        (state, quarantine) = (context.State, context.Quarantine);
        this.store = store;
        sync = new TableSync(context);
        limiter = new RateLimiter(() => entry.Stored.Definition, clock);
        rests = new WorkerRests(limiter, context.Meter, Steering, clock);
        notices = new AsideNotices(definition.Name, quarantine, context.Events, clock);
        troubles = new WorkerTroubles(context, Steering, random);
        pauses = new LoadPauses(clock, random);
        passages = new PassageNotices(definition.Name, entry.Verdicts, context.Events);
    }

    /// <summary>By what it is asked to rest.</summary>
    public Steering Steering { get; } = new();

    /// <summary>Ends when it rests or is faulted; never fails.</summary>
    public Task Running { get; private set; } = Task.CompletedTask;

    /// <summary>Whether it makes one run of a schedule.</summary>
    public bool IsOneRun { get; set; }

    /// <summary>Whether it came to the end of its run of a schedule, and was not brought to rest before.</summary>
    public bool HasMadeItsRun => IsOneRun && Steering.Request is { Mode: StopMode.Drain };

    /// <summary>Whether it has ended because the target has what it was to get.</summary>
    public bool Finished { get; private set; }

    public void Start() => Running = RunAsync();

    /// <summary>The position at which it found the target; null before a first load, and until it has asked.</summary>
    internal LogPosition? Found => state.Found;

    /// <summary>
    /// Asks it to go on to a mark and stop there. False, and nothing is asked, when what is applied or in hand goes beyond it.
    /// </summary>
    internal bool TryStop(StopMark mark) => state.TryStop(Steering, mark);

    /// <summary>What the target says the call that continues waits for; null when it says nothing, or cannot be asked.</summary>
    internal async Task<string?> WhyWaitingAsync(CancellationToken cancellation)
    {
        try
        {
            return atWork is { } work ? await work.WhyWaitingAsync(cancellation) : null;
        }
        catch (Exception exception)
            when (exception is PortException or IOException or InvalidOperationException or OperationCanceledException)
        {
            context.Logger.LogDebug(exception, "The target of {Crossing} could not be asked what it waits for", definition.Name);
            return null;
        }
    }

    /// <summary>A picture of this moment.</summary>
    internal WorkerView View => state.View with { Resting = limiter.Resting };

    /// <summary>Where only changes cross, the rows are brought by other means and are never loaded again by a worker.</summary>
    private bool LoadsTables => definition.Kind != StartKind.Changes;

    private async Task RunAsync()
    {
        await Task.Yield();
        context.Meter.RestEnds(OwnRest.Pause, clock.GetUtcNow());
        var attempt = 0;
        var before = Reached;
        while (true)
        {
            try
            {
                if (!await RunSessionAsync())
                {
                    break;
                }
            }
            catch (OperationCanceledException) when (Steering.Request is not null)
            {
                break;
            }
            catch (Exception exception) when (WorkerTroubles.MayPass(exception))
            {
                succeededBy = (exception as FencedException)?.Term ?? 0;
                attempt = Reached == before ? attempt + 1 : 1;
                before = Reached;
                if (!await troubles.WaitAsync(attempt, exception))
                {
                    break;
                }
            }
            catch (Exception exception) when (exception is not OutOfMemoryException)
            {
                await troubles.FaultAsync(exception);
                break;
            }
        }

        if (Steering.Request is not null)
        {
            context.Meter.RestBegins(OwnRest.Pause, clock.GetUtcNow());
        }

        state.Ended();
    }

    /// <summary>How far the target has come. Only where that moves does the pause before the next try begin small again.</summary>
    private (LogPosition? Position, int Loaded, int Chunks) Reached =>
        atWork?.Session.Progress is { } progress
            ? (progress.Position, progress.Tables.Count(table => table.Loaded), progress.Tables.Sum(table => table.Part?.Done.Count ?? 0))
            : default;

    /// <summary>Takes one turn; true when another has to follow at once, since tables are to be loaded again.</summary>
    private async Task<bool> RunSessionAsync()
    {
        var now = Steering.Now;
        var term = await store.NextTermAsync(definition.Name, succeededBy, now);
        await using var work = await TargetWorks.OpenAsync(context, sync, term, now);
        var session = work.Session;
        atWork = work;
        session.Match(capture.Spool.Branches);
        state.Take(session.Progress);
        await quarantine.OpenAsync(session.Progress, now);
        var missing = await AgreeAsync(work, now);
        work.Ends = await EndsAsync(now);
        var asOf = session.Progress.Position is null ? await sync.AsOfAsync(session.Progress, now) : null;
        capture.Spool.Retain(definition.Name, asOf ?? session.Progress.NeededAfter, session.Progress.WantedAfter);
        if (missing.Count > 0 && !LoadsBeside(session.Progress, work))
        {
            await rests.BeforeLoadAsync(session, now);
            await sync.BringAsync(work, missing, Steering.Soon, now);
        }

        if (session.Progress.Position is null)
        {
            await (asOf is { } past ? work.BringAsOfAsync(past, now) : Task.CompletedTask);
            await sync.BeginStreamAsync(session, now);
        }

        if (definition.Kind == StartKind.Structure)
        {
            // Without rows there is nothing to catch up with.
            await work.SettleAsync(now);
            Finished = true;
            return false;
        }

        return await FollowAsync(work, now);
    }

    /// <summary>
    /// Sees to it that the log is read from where the target stands, and for the tables that cross. Returns those that are to be loaded.
    /// </summary>
    private async Task<List<TableName>> AgreeAsync(ITargetWork work, CancellationToken cancellation)
    {
        var session = work.Session;
        var wanted = await sync.TablesAsync(session.Progress, cancellation);
        var missing = Missing(wanted, session.Progress);
        if (LoadsBeside(session.Progress, work))
        {
            // Their load sees to it that they are read: the others do not wait for a source that cannot be reached.
            wanted = [.. wanted.Except(missing)];
            missing = [];
        }

        if (missing.Count > 0 || session.Progress.Position is null || !capture.Spool.Tables.IsSupersetOf(wanted))
        {
            await capture.CarryAsync(wanted, cancellation);
        }

        if (session.Progress.Position is { Branch: LogPosition.BeforeAll } || session.Progress.Position > capture.Spool.Last)
        {
            // The spool is older than the target, as after a restored backup: whether the log still goes on from there is found out first.
            await capture.CarryAsync(wanted, cancellation);
        }

        session.Match(capture.Spool.Branches);
        if (await BranchPassage.ContinueAsync(session, capture.Spool, context.Source.Log, LoadsTables, cancellation))
        {
            state.Take(session.Progress);
            missing = Missing(wanted, session.Progress);
        }

        sync.Agree(session.Progress);
        return missing;
    }

    /// <summary>
    /// Whether tables are loaded while the others follow. A run of a schedule, and what is copied once, ends at a position to which all
    /// tables come.
    /// </summary>
    private bool LoadsBeside(TargetProgress progress, ITargetWork work) =>
        work.LoadsBeside
        && progress.Position is not null
        && LoadsTables
        && !IsOneRun
        && !definition.EndsByItself;

    private static List<TableName> Missing(IReadOnlyList<TableName> wanted, TargetProgress progress) =>
        [.. wanted.Except(progress.Tables.Where(table => table.Loaded || table.Held).Select(table => table.Table))];

    /// <summary>The source is asked only where its log does not say: what the spool holds is applied while it cannot be reached.</summary>
    private async Task<RouteEnds> EndsAsync(CancellationToken cancellation) =>
        new(
            capture.Spool.Notes.GetValueOrDefault(ILogReader.DatabaseNote) ?? await context.Source.Probe.GetIdentityAsync(cancellation),
            await context.Target.Probe.GetIdentityAsync(cancellation)
        );

    /// <summary>Applies what comes until it is to rest; true when tables are to be loaded first.</summary>
    private async Task<bool> FollowAsync(ITargetWork work, CancellationToken cancellation)
    {
        var session = work.Session;
        using var gathering = CancellationTokenSource.CreateLinkedTokenSource(cancellation, Steering.Soon);
        beside = LoadsBeside(session.Progress, work) ? work.NewBeside(pauses, notices) : null;
        var mine = OpenGathering(work, gathering.Token);
        var idle = new IdleWait(clock);
        try
        {
            await (beside?.BeginAsync(cancellation) ?? Task.CompletedTask);
            while (true)
            {
                Task[] woken =
                [
                    Steering.Changed.Next,
                    capture.StateChanged.Next,
                    quarantine.Decided.Next,
                    context.Repairs.Asked.Next,
                    context.Rewinds.Changed.Next,
                    .. beside is null ? [] : new[] { beside.Ended.Next },
                ];
                var mayApply = limiter.Wait() <= TimeSpan.Zero;
                if (await work.BesideAsync(cancellation) | (mayApply && await StepBesideAsync(cancellation)))
                {
                    mine = await GatherAnewAsync(mine, work, gathering.Token);
                }

                if (beside is { HasFailed: true })
                {
                    return true;
                }

                if (Rests(mine.Gatherer, Steering.Request ?? End(session.Progress)) && !IsToCatchUp)
                {
                    await FinishAsync(work, cancellation);
                    return false;
                }

                EndWithTheLog();
                if (mayApply && beside is { IsCatchingUp: true } && !mine.Next.IsCompleted)
                {
                    continue;
                }

                if (!await ComesAsync(session, mine, idle, woken, cancellation))
                {
                    continue;
                }

                var batch = await mine.Next;
                mine.Taken();
                if (batch is not null)
                {
                    mine = await TakeAsync(work, mine, batch, cancellation) ? await GatherAnewAsync(mine, work, gathering.Token) : mine;
                }
                else if (mine.Gatherer.AtBranchEnd)
                {
                    await (beside?.EndAsync(cancellation) ?? Task.CompletedTask);
                    await PassAsync(session, cancellation);
                    if (beside is null && session.Progress.Tables.Any(table => table is { Loaded: false, Held: false }))
                    {
                        return true;
                    }

                    mine = await GatherAnewAsync(mine, work, gathering.Token);
                }
            }
        }
        finally
        {
            state.SetInHand(null);
            await mine.DisposeAsync();
            await (beside?.DisposeAsync() ?? ValueTask.CompletedTask);
        }
    }

    /// <summary>A crossing that is to come to a mark comes there with all tables that are loaded; none is loaded for that.</summary>
    private bool IsToCatchUp => beside is { IsApart: true } && Steering.Request is { Mode: StopMode.Drain };

    private async Task<bool> StepBesideAsync(CancellationToken cancellation) => beside is not null && await beside.StepAsync(cancellation);

    /// <summary>After where the spool is needed.</summary>
    private LogPosition? NeededAfter(IProgressSession session) => beside is { } tables ? tables.NeededAfter : session.Progress.NeededAfter;

    /// <summary>Waits for the next batch; false when something else is to be looked at first.</summary>
    private async Task<bool> ComesAsync(
        IProgressSession session,
        Gathering mine,
        IdleWait idle,
        Task[] woken,
        CancellationToken cancellation
    )
    {
        mine.Gatherer.MostChanges = limiter.MostChanges;
        if (limiter.Wait() is var rest && rest > TimeSpan.Zero)
        {
            await rests.ForAsync(session, rest, cancellation, woken[0], woken[2], woken[3]);
            return false;
        }

        if (await idle.ForAsync(mine.Next, woken, lookForEnd: Steering.Request is not null))
        {
            return true;
        }

        if (idle.IsOver)
        {
            idle.Begin();
            await notices.TellAsync();
            await WorkerRests.ProveAsync(session, cancellation);
        }

        return false;
    }

    /// <summary>Takes a batch where the mark lets it. True when the next must be gathered again.</summary>
    private async Task<bool> TakeAsync(ITargetWork work, Gathering mine, Batch batch, CancellationToken cancellation) =>
        mine.Gatherer.IsBeyond(batch)
        || !state.TryTake(batch, Steering, clock.GetUtcNow())
        || await ApplyAsync(work, mine, batch, cancellation);

    /// <summary>Applies a batch. True when rows went into quarantine, so that the next is gathered without them.</summary>
    private async Task<bool> ApplyAsync(ITargetWork work, Gathering mine, Batch batch, CancellationToken cancellation)
    {
        var waiting = quarantine.Count;
        using var activity = EngineTraces
            .Begin("apply", definition.Name)
            ?.SetTag("vestige.changes", batch.Fragments.Sum(fragment => (long)fragment.Count))
            .SetTag("vestige.transactions", batch.Fragments.Count);
        var aside = await work.ApplyAsync(batch, mine, cancellation);
        limiter.Applied(batch.Fragments.Sum(fragment => (long)fragment.Count));
        await notices.TellHeldAsync(work.Session.Progress, state.IsHeld);
        state.Take(work.Session.Progress);
        state.SetPlace(batch);
        capture.Spool.Retain(definition.Name, NeededAfter(work.Session), work.Session.Progress.WantedAfter);
        state.SetInHand(null);
        notices.Add(aside ? quarantine.Count - waiting : 0);
        await notices.TellAsync();
        return aside;
    }

    /// <summary>All of a branch is applied: the crossing continues with the next.</summary>
    private async Task PassAsync(IProgressSession session, CancellationToken cancellation)
    {
        var entered = await BranchPassage.PassAsync(session, capture.Spool, LoadsTables, cancellation);
        state.Take(session.Progress);
        capture.Spool.Retain(definition.Name, NeededAfter(session), session.Progress.WantedAfter);
        await passages.EnteredAsync(entered, cancellation);
    }

    private async Task<Gathering> GatherAnewAsync(Gathering before, ITargetWork work, CancellationToken ending)
    {
        await before.DisposeAsync();
        return OpenGathering(work, ending);
    }

    /// <summary>With the place in the log lost, what the spool still holds is applied; then nothing can come any more.</summary>
    private void EndWithTheLog()
    {
        if (capture.Loss is { } loss && state.Applied >= capture.Spool.Last)
        {
            throw loss;
        }
    }

    private Gathering OpenGathering(ITargetWork work, CancellationToken ending)
    {
        var (spool, progress) = (capture.Spool, work.Session.Progress);
        var tables = progress.Tables.Where(table => definition.Tables.Takes(table.Table)).ToImmutableDictionary(table => table.Table);
        var router = new ChangeRouter(spool, context.Treating, new SkippedRows(quarantine, clock), tables)
        {
            Target = work.Ends!.Target,
            Editor = work.Editor,
            Since = progress.Position,
        };
        var reader = spool.ReadAfter(progress.Position!.Value, withinBranch: true);
        var gatherer = new BatchGatherer(spool, reader, work.NewBuilder(router), clock, BatchBytes) { Idle = context.Meter.Idle };
        state.Follows(gatherer);
        return new Gathering(gatherer, router, ending);
    }

    /// <summary>
    /// Rows that are copied only once are as of one position when every table has caught up with the last that was loaded.
    /// </summary>
    private StopRequest? End(TargetProgress progress) =>
        definition.EndsByItself ? new StopRequest(StopMode.Drain, new StopMark(sync.Together(progress))) : null;

    private async Task FinishAsync(ITargetWork work, CancellationToken cancellation)
    {
        if (definition.EndsByItself && Steering.Request is null)
        {
            await work.SettleAsync(cancellation);
            Finished = true;
        }
    }

    /// <summary>Whether the crossing is to rest now; sets the mark up to which it still goes.</summary>
    private bool Rests(BatchGatherer mine, StopRequest? request)
    {
        mine.Mark = request?.Mark;
        if (request is null)
        {
            return false;
        }

        if (request.Mode != StopMode.Drain)
        {
            return true;
        }

        // What is said to have been read by now is asked first: whatever comes into the spool after that is not taken for applied.
        var (readThrough, end) = (capture.Status.ReadThrough, capture.Spool.Last);
        var allApplied = mine.OldestWaiting is null && state.Applied >= end;
        return mine.AtMark
            || request.Mark switch
            {
                { Position: { } position } => state.Applied >= position || (allApplied && end >= position),
                { Time: { } time } => allApplied && readThrough >= time,
                _ => allApplied,
            };
    }
}
