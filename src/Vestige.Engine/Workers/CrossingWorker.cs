using System.Collections.Immutable;
using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Following;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Reconciling;
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
    private static readonly TimeSpan LookForEndEvery = TimeSpan.FromSeconds(1);
    private readonly CrossingDefinition definition;
    private readonly CrossingTreatment treating;
    private readonly TargetSystem target;
    private readonly Capture capture;
    private readonly IControlStore store;
    private readonly CrossingMeter meter;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly WorkerState state = new();
    private readonly Quarantine quarantine;
    private readonly Func<QuarantineRule?> rule;
    private readonly QuarantineTry trying;
    private readonly RepairQueue repairs;
    private readonly RepairRun repairing;
    private readonly RateLimiter brake;
    private readonly WorkerRests rests;
    private readonly TableSync arrival;
    private readonly ConstraintBuilder settling;
    private readonly AsideNotices notices;
    private readonly WorkerTroubles troubles;
    private readonly PassageNotices passages;
    private readonly SourceSystem source;
    private volatile ITargetSession? atWork;
    private RouteEnds? routeEnds;

    /// <summary>The term that the target knows and the store does not, as when the store was restored from an older backup.</summary>
    private long succeededBy;

    internal CrossingWorker(
        CrossingDefinition definition,
        SourceSystem source,
        TargetSystem target,
        IMaskKeys keys,
        Capture capture,
        CrossingEntry entry,
        IControlStore store,
        EventLog events,
        TimeProvider clock,
        Random random,
        ILogger logger
    )
    {
        this.definition = definition;
        treating = new CrossingTreatment(definition, source, target, keys);
        (this.source, this.target) = (source, target);
        this.capture = capture;
        meter = entry.Meter;
        quarantine = entry.Quarantine;
        rule = () => entry.Stored.Definition.Quarantine;
        this.store = store;
        this.clock = clock;
        this.logger = logger;
        arrival = new TableSync(treating, source, target, capture, state, entry.FirstStart, meter, events, clock);
        brake = new RateLimiter(() => entry.Stored.Definition, clock);
        rests = new WorkerRests(brake, Steering, clock);
        settling = new ConstraintBuilder(definition.Name, arrival, clock, logger);
        notices = new AsideNotices(definition.Name, quarantine, events, clock);
        troubles = new WorkerTroubles(definition.Name, state, Steering, events, clock, random, logger);
        trying = new QuarantineTry(quarantine, treating, events, clock);
        passages = new PassageNotices(definition.Name, entry.Verdicts, events);
        repairs = entry.Repairs;
        repairing = new RepairRun(treating, source, target, capture.Spool, quarantine, repairs);
    }

    /// <summary>By what it is asked to rest.</summary>
    public Steering Steering { get; } = new();

    /// <summary>Ends when it rests or is faulted; never fails.</summary>
    public Task Running { get; private set; } = Task.CompletedTask;

    /// <summary>Whether it makes one run of a schedule.</summary>
    public bool IsOneRun { get; set; }

    /// <summary>Whether it came to the end of its run of a schedule, and was not brought to rest before.</summary>
    public bool HasMadeItsRun => IsOneRun && Steering.Request is { Manner: StopMode.Drain };

    /// <summary>Whether it has ended because the target has what it was to get.</summary>
    public bool Finished { get; private set; }

    public void Start() => Running = RunAsync();

    /// <summary>The position at which it found the target; null before a first load, and until it has asked.</summary>
    internal LogPosition? Found => state.Found;

    /// <summary>
    /// Asks it to go on to a mark and stop there. False, and nothing is asked, when what is applied or in hand goes beyond it.
    /// </summary>
    internal bool TryStop(StopMark mark) => state.TryStop(Steering, mark);

    /// <summary>What the target says the call that goes on waits for; null when it says nothing, or cannot be asked.</summary>
    internal async Task<string?> WhyWaitingAsync(CancellationToken cancellation)
    {
        try
        {
            return atWork is { } session ? await session.WhyWaitingAsync(cancellation) : null;
        }
        catch (Exception exception)
            when (exception is PortException or IOException or InvalidOperationException or OperationCanceledException)
        {
            logger.LogDebug(exception, "The target of {Crossing} could not be asked what it waits for", definition.Name);
            return null;
        }
    }

    /// <summary>A picture of this moment.</summary>
    internal WorkerView View => state.View with { Resting = brake.Resting };

    /// <summary>Where only changes cross, the rows are brought by other means and are never loaded again by a worker.</summary>
    private bool LoadsTables => definition.Kind != StartKind.Changes;

    private async Task RunAsync()
    {
        await Task.Yield();
        var attempt = 0;
        var before = Reached;
        while (true)
        {
            try
            {
                if (!await TurnAsync())
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

        state.Ended();
    }

    /// <summary>How far the target has come. Only where that moves does the pause before the next try begin small again.</summary>
    private (LogPosition? Position, int Loaded, int Chunks) Reached =>
        atWork?.Progress is { } progress
            ? (progress.Position, progress.Tables.Count(table => table.Loaded), progress.Tables.Sum(table => table.Part?.Done.Count ?? 0))
            : default;

    /// <summary>Takes one turn; true when another has to follow at once, since tables are to be loaded again.</summary>
    private async Task<bool> TurnAsync()
    {
        var now = Steering.Now;
        var term = await store.NextTermAsync(definition.Name, succeededBy, now);
        await using var session = await target.Tables.OpenSessionAsync(definition.Name, term, now);
        atWork = session;
        session.Match(capture.Spool.Branches);
        state.Take(session.Progress);
        await quarantine.OpenAsync(session.Progress, now);
        var wanted = await arrival.TablesAsync(session.Progress, now);
        var missing = Missing(wanted, session.Progress);
        if (missing.Count > 0 || session.Progress.Position is null || !capture.Spool.Tables.IsSupersetOf(wanted))
        {
            await capture.CarryAsync(wanted, now);
        }

        if (session.Progress.Position is { Branch: LogPosition.BeforeAll } || session.Progress.Position > capture.Spool.Last)
        {
            // The spool is older than the target, as after a restored backup: whether the log still goes on from there is found out first.
            await capture.CarryAsync(wanted, now);
        }

        session.Match(capture.Spool.Branches);
        if (await BranchPassage.ContinueAsync(session, capture.Spool, source.Log, LoadsTables, now))
        {
            state.Take(session.Progress);
            missing = Missing(wanted, session.Progress);
        }

        arrival.Agree(session.Progress);
        arrival.Ends = routeEnds = await EndsAsync(now);
        capture.Spool.Hold(definition.Name, session.Progress.Position);
        if (missing.Count > 0)
        {
            await rests.BeforeLoadAsync(session, now);
            await arrival.BringAsync(session, missing, Steering.Soon, now);
        }

        if (session.Progress.Position is null)
        {
            await arrival.BeginStreamAsync(session, now);
        }

        if (definition.Kind == StartKind.Structure)
        {
            // Without rows there is nothing to catch up with.
            await settling.TogetherAsync(session, now);
            Finished = true;
            return false;
        }

        return await FollowAsync(session, now);
    }

    private static List<TableName> Missing(IReadOnlyList<TableName> wanted, TargetProgress progress) =>
        [.. wanted.Where(name => !progress.Tables.Any(table => table.Table == name && table.Loaded))];

    /// <summary>The source is asked only where its log does not say: what the spool holds is applied while it cannot be reached.</summary>
    private async Task<RouteEnds> EndsAsync(CancellationToken cancellation) =>
        new(
            capture.Spool.Notes.GetValueOrDefault(ILogReader.DatabaseNote) ?? await source.Probe.GetIdentityAsync(cancellation),
            await target.Probe.GetIdentityAsync(cancellation)
        );

    /// <summary>Applies what comes until it is to rest; true when tables are to be loaded first.</summary>
    private async Task<bool> FollowAsync(ITargetSession session, CancellationToken cancellation)
    {
        using var gathering = CancellationTokenSource.CreateLinkedTokenSource(cancellation, Steering.Soon);
        var mine = OpenGathering(session.Progress, gathering.Token);
        Task? idle = null;
        Task? ends = null;
        try
        {
            while (true)
            {
                var (steered, turned, decided, asked) = (
                    Steering.Changed.Next,
                    capture.Turned.Next,
                    quarantine.Decided.Next,
                    repairs.Asked.Next
                );
                await settling.BesideAsync(session, cancellation);
                await repairing.RunAsync(session, cancellation);
                if (trying.IsDue && await trying.RunAsync(session, cancellation))
                {
                    mine = await GatherAnewAsync(mine, session.Progress, gathering.Token);
                }

                if (Rests(mine.Gatherer, Steering.Request ?? End(session.Progress)))
                {
                    await FinishAsync(session, cancellation);
                    return false;
                }

                EndWithTheLog();
                mine.Gatherer.MostChanges = brake.MostChanges;
                if (brake.Wait() is var rest && rest > TimeSpan.Zero)
                {
                    await rests.ForAsync(session, rest, cancellation, steered, decided, asked);
                    continue;
                }

                idle ??= Task.Delay(WorkerRests.ProveEvery, clock, CancellationToken.None);

                // That the log has passed a mark may be seen in nothing that comes of it.
                ends =
                    Steering.Request is null ? null
                    : ends is { IsCompleted: false } ? ends
                    : Task.Delay(LookForEndEvery, clock, CancellationToken.None);
                await Task.WhenAny(mine.Next, steered, turned, decided, asked, idle, ends ?? idle);
                if (!mine.Next.IsCompleted)
                {
                    if (idle.IsCompleted)
                    {
                        idle = null;
                        await notices.TellAsync();
                        await WorkerRests.ProveAsync(session, cancellation);
                    }

                    continue;
                }

                var batch = await mine.Next;
                mine.Taken();
                if (batch is null)
                {
                    if (!mine.Gatherer.AtBranchEnd)
                    {
                        continue;
                    }

                    await PassAsync(session, cancellation);
                    if (session.Progress.Tables.Any(table => table is { Loaded: false, Held: false }))
                    {
                        return true;
                    }

                    mine = await GatherAnewAsync(mine, session.Progress, gathering.Token);
                    continue;
                }

                if (
                    mine.Gatherer.IsBeyond(batch)
                    || !state.TryTake(batch, Steering, clock.GetUtcNow())
                    || await ApplyAsync(session, mine, batch, cancellation)
                )
                {
                    mine = await GatherAnewAsync(mine, session.Progress, gathering.Token);
                }
            }
        }
        finally
        {
            state.SetInHand(null);
            await mine.DisposeAsync();
        }
    }

    /// <summary>
    /// Applies a batch while the next is gathered. True when that one must be gathered anew, since rows went into quarantine.
    /// </summary>
    private async Task<bool> ApplyAsync(ITargetSession session, Gathering mine, Batch batch, CancellationToken cancellation)
    {
        var applier = new BatchApplier(session, capture.Spool, treating, quarantine, rule, meter, clock)
        {
            Read = state.SetInHandChanges,
            Ends = routeEnds!,
        };
        var waiting = quarantine.Count;
        using var activity = EngineTraces
            .Begin("apply", definition.Name)
            ?.SetTag("vestige.changes", batch.Fragments.Sum(fragment => (long)fragment.Count))
            .SetTag("vestige.transactions", batch.Fragments.Count);
        bool aside;
        if (batch.Large)
        {
            aside = await applier.ApplyLargeAsync(batch, mine.Gatherer, mine.Router, cancellation);
        }
        else
        {
            _ = mine.Next;
            aside = await applier.ApplyAsync(batch, cancellation);
        }

        brake.Applied(batch.Fragments.Sum(fragment => (long)fragment.Count));
        await notices.TellHeldAsync(session.Progress, state.IsHeld);
        state.Take(session.Progress);
        state.SetPlace(batch);
        capture.Spool.Hold(definition.Name, session.Progress.Position);
        state.SetInHand(null);
        notices.Add(aside ? quarantine.Count - waiting : 0);
        await notices.TellAsync();
        return aside;
    }

    /// <summary>All of a branch is applied: the crossing goes on with the next.</summary>
    private async Task PassAsync(ITargetSession session, CancellationToken cancellation)
    {
        var entered = await BranchPassage.PassAsync(session, capture.Spool, LoadsTables, cancellation);
        state.Take(session.Progress);
        capture.Spool.Hold(definition.Name, session.Progress.Position);
        await passages.EnteredAsync(entered, cancellation);
    }

    private async Task<Gathering> GatherAnewAsync(Gathering before, TargetProgress progress, CancellationToken ending)
    {
        await before.DisposeAsync();
        return OpenGathering(progress, ending);
    }

    /// <summary>With the place in the log lost, what the spool still holds is applied; then nothing can come any more.</summary>
    private void EndWithTheLog()
    {
        if (capture.Loss is { } loss && state.Applied >= capture.Spool.Last)
        {
            throw loss;
        }
    }

    private Gathering OpenGathering(TargetProgress progress, CancellationToken ending)
    {
        var spool = capture.Spool;
        var tables = progress.Tables.Where(table => definition.Tables.Takes(table.Table)).ToImmutableDictionary(table => table.Table);
        var router = new ChangeRouter(spool, treating, new SkippedRows(quarantine, clock), tables) { Target = routeEnds!.Target };
        var gatherer = new BatchGatherer(spool, spool.ReadAfter(progress.Position!.Value, withinBranch: true), router, clock, BatchBytes)
        {
            Idle = meter.Idle,
        };
        state.Follows(gatherer);
        return new Gathering(gatherer, router, ending);
    }

    /// <summary>
    /// Rows that are copied only once are as of one position when every table has caught up with the last that was loaded.
    /// </summary>
    private StopRequest? End(TargetProgress progress) =>
        definition.EndsByItself ? new StopRequest(StopMode.Drain, new StopMark(arrival.Together(progress))) : null;

    private async Task FinishAsync(ITargetSession session, CancellationToken cancellation)
    {
        if (definition.EndsByItself && Steering.Request is null)
        {
            await settling.TogetherAsync(session, cancellation);
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

        if (request.Manner != StopMode.Drain)
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
