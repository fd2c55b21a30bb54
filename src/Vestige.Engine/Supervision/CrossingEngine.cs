using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Capturing;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Supervision;

/// <summary>
/// Runs all crossings of one process: resumes at the start what ran before, takes what people ask for, and tells how each
/// crossing stands. What was asked is stored before it is done. Safe for several threads.
/// </summary>
public sealed class CrossingEngine : IAsyncDisposable
{
    private static readonly TimeSpan SampleEvery = TimeSpan.FromSeconds(1);
    private readonly IConnections connections;
    private readonly IControlStore store;
    private readonly EngineOptions options;
    private readonly TimeProvider clock;
    private readonly Random random;
    private readonly ILogger logger;
    private readonly Captures captures;
    private readonly CrossingPlanner planner;
    private readonly StatusReader reader;
    private readonly Lock gate = new();
    private readonly SortedDictionary<string, CrossingEntry> entries = new(StringComparer.Ordinal);
    private readonly Dictionary<string, double> loadRates = [];
    private readonly CancellationTokenSource ending = new();
    private Task sampling = Task.CompletedTask;

    public CrossingEngine(
        IConnections connections,
        IControlStore store,
        ISpoolCipher cipher,
        EngineOptions options,
        TimeProvider clock,
        Random random,
        ILogger logger)
    {
        this.connections = connections;
        this.store = store;
        this.options = options;
        this.clock = clock;
        this.random = random;
        this.logger = logger;
        Events = new EventLog(store, clock, logger);
        captures = new Captures(connections, cipher, options, Events, clock, random, logger);
        planner = new CrossingPlanner(connections, clock);
        reader = new StatusReader(connections, clock);
    }

    public EventLog Events { get; }

    public bool Started { get; private set; }

    /// <summary>Loads the definitions and goes on with every crossing that ran.</summary>
    public async Task StartAsync(CancellationToken cancellation)
    {
        foreach (var stored in await store.LoadAsync(cancellation))
        {
            Add(stored);
        }

        foreach (var entry in Entries.Where(entry => entry.Stored.Desired != DesiredState.Draft))
        {
            await OpenAsync(entry, cancellation);
        }

        sampling = SampleAsync();
        Started = true;
    }

    /// <summary>Every crossing, by name.</summary>
    public IReadOnlyList<CrossingStatus> Statuses => [.. Entries.Select(StatusOf)];

    /// <summary>The reading of every source that is read.</summary>
    public IReadOnlyList<CaptureStatus> CaptureStatuses => [.. captures.All.Select(capture => capture.Status)];

    /// <summary>How a crossing stands; null when there is none of that name.</summary>
    public CrossingStatus? Status(string crossing) => Find(crossing) is { } entry ? StatusOf(entry) : null;

    /// <summary>Its measures; null when there is none of that name.</summary>
    public CrossingMeter? Meter(string crossing) => Find(crossing)?.Meter;

    /// <summary>Keeps a new definition, or another one for a crossing that does not run. Nothing starts.</summary>
    public async Task DefineAsync(CrossingDefinition definition, string by, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(definition);
        var entry = Find(definition.Name);
        if (entry is not null && entry.Stored.Desired != DesiredState.Draft)
        {
            throw new RequestRefusedException($"{definition.Name} has been started; its definition cannot be changed yet.")
            {
                Mend = "Make a new crossing, or remove this one first.",
            };
        }

        var stored = new StoredCrossing(definition, DesiredState.Draft, by, clock.GetUtcNow());
        await store.SaveAsync(stored, cancellation);
        if (entry is null)
        {
            Add(stored);
        }
        else
        {
            entry.Stored = stored;
        }

        await Events.OfCrossingAsync(definition.Name, EventKind.Note, entry is null ? "Defined." : "Definition changed.", by);
    }

    /// <summary>What a start would do. Reads only.</summary>
    public Task<CrossingPlan> PlanAsync(CrossingDefinition definition, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(definition);
        lock (gate)
        {
            var measured = loadRates.TryGetValue(definition.Target, out var rate);
            return planner.PlanAsync(definition, (measured ? rate : options.AssumedRowsPerSecond, measured), cancellation);
        }
    }

    /// <summary>
    /// Starts, or goes on from the place kept. A first start is checked; throws <see cref="NotReadyException"/> with every
    /// line when it cannot be made.
    /// </summary>
    public async Task RunAsync(string crossing, string by, CancellationToken cancellation)
    {
        var entry = Existing(crossing);
        using var turn = await entry.Turn.EnterAsync(cancellation);
        if (entry.Worker is { Running.IsCompleted: false })
        {
            throw new RequestRefusedException($"{crossing} is running.") { Mend = "Nothing needs to be done." };
        }

        if (entry.Stored.Desired == DesiredState.Draft)
        {
            await CheckAsync(entry, cancellation);
        }

        await DesireAsync(entry, DesiredState.Run, by, cancellation);
        await Events.OfCrossingAsync(crossing, EventKind.Note, "Started.", by);
        await OpenAsync(entry, cancellation);
    }

    /// <summary>Brings it to rest after the transaction in hand, its place kept. Returns when it rests.</summary>
    public Task PauseAsync(string crossing, string by, CancellationToken cancellation) =>
        RestAsync(crossing, DesiredState.Pause, new StopRequest(StopManner.Transaction), "Paused", by, cancellation);

    /// <summary>Brings it to rest in one of three manners. Drain returns at once; the others when it rests.</summary>
    public Task StopAsync(string crossing, StopManner manner, LogPosition? mark, string by, CancellationToken cancellation)
    {
        var entry = Existing(crossing);
        var end = captures.Find(entry.Stored.Definition.Source)?.Spool.Last;
        var request = manner == StopManner.Drain ? new StopRequest(manner, mark ?? end ?? LogPosition.Zero) : new StopRequest(manner);
        return RestAsync(crossing, DesiredState.Stop, request, $"Stop asked: {Words(manner)}", by, cancellation);
    }

    /// <summary>
    /// Loads tables again, all of them when none are named: their rows on the target are deleted first. The crossing runs
    /// afterwards.
    /// </summary>
    public async Task ReloadAsync(string crossing, IReadOnlyList<TableName> tables, string by, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(tables);
        var entry = Existing(crossing);
        using var turn = await entry.Turn.EnterAsync(cancellation);
        if (entry.Stored.Desired == DesiredState.Draft)
        {
            throw new RequestRefusedException($"{crossing} was never started.") { Mend = "Start it." };
        }

        await HaltAsync(entry, new StopRequest(StopManner.Now));
        await DesireAsync(entry, DesiredState.Pause, by, cancellation);
        var target = connections.Target(entry.Stored.Definition.Target);
        var capture = captures.Find(entry.Stored.Definition.Source);
        await using (var session = await target.OpenSessionAsync(crossing, await store.NextEpochAsync(crossing, cancellation), cancellation))
        {
            var again = Again(session.Progress, tables);
            await using var transaction = await session.BeginAsync(checkReferences: false, cancellation);
            await transaction.CommitAsync(new ProgressUpdate(null, again, Restart: tables.Count == 0), cancellation);
        }

        if (tables.Count == 0 && capture is { Status.LostPlace: true })
        {
            await capture.RestartAsync(cancellation);
        }

        await Events.OfCrossingAsync(crossing, EventKind.Note, tables.Count == 0 ? "All tables are loaded again." : $"Loaded again: {string.Join(", ", tables)}.", by);
        await DesireAsync(entry, DesiredState.Run, by, cancellation);
        await OpenAsync(entry, cancellation);
    }

    /// <summary>Removes a crossing that does not run: its definition and its progress on the target; the rows stay.</summary>
    public async Task RemoveAsync(string crossing, string by, CancellationToken cancellation)
    {
        var entry = Existing(crossing);
        using var turn = await entry.Turn.EnterAsync(cancellation);
        if (entry.Worker is { Running.IsCompleted: false })
        {
            throw new RequestRefusedException($"{crossing} is running.") { Mend = "Stop it first." };
        }

        if (entry.Stored.Desired != DesiredState.Draft)
        {
            await connections.Target(entry.Stored.Definition.Target).ForgetAsync(crossing, cancellation);
        }

        await store.DeleteAsync(crossing, cancellation);
        lock (gate)
        {
            entries.Remove(crossing);
        }

        captures.Find(entry.Stored.Definition.Source)?.Spool.Release(crossing);
        await Events.OfCrossingAsync(crossing, EventKind.Note, "Removed.", by);
    }

    /// <summary>Ends the process's work: every crossing rests where it is and goes on at the next start.</summary>
    public async ValueTask DisposeAsync()
    {
        ending.Cancel();
        await sampling;
        foreach (var entry in Entries)
        {
            await HaltAsync(entry, new StopRequest(StopManner.Now));
        }

        await captures.DisposeAsync();
        ending.Dispose();
    }

    private IReadOnlyList<CrossingEntry> Entries
    {
        get
        {
            lock (gate)
            {
                return [.. entries.Values];
            }
        }
    }

    private static List<TableProgress> Again(TargetProgress progress, IReadOnlyList<TableName> tables)
    {
        var unknown = tables.Where(name => progress.Tables.All(table => table.Table != name)).ToList();
        if (unknown.Count > 0)
        {
            throw new RequestRefusedException($"The crossing has no table {unknown[0]}.") { Mend = "Name tables of this crossing." };
        }

        return [.. progress.Tables
            .Where(table => tables.Count == 0 || tables.Contains(table.Table))
            .Select(table => new TableProgress(table.Table, Loaded: false, LogPosition.Zero))];
    }

    private static string Words(StopManner manner) => manner switch
    {
        StopManner.Drain => "drain",
        StopManner.Transaction => "after this transaction",
        _ => "at once",
    };

    private CrossingEntry? Find(string crossing)
    {
        lock (gate)
        {
            return entries.GetValueOrDefault(crossing);
        }
    }

    private CrossingEntry Existing(string crossing) =>
        Find(crossing) ?? throw new RequestRefusedException($"There is no crossing {crossing}.") { Mend = "Look at the list of crossings." };

    private void Add(StoredCrossing stored)
    {
        lock (gate)
        {
            entries.Add(stored.Definition.Name, new CrossingEntry(stored));
        }
    }

    private CrossingStatus StatusOf(CrossingEntry entry)
    {
        var status = reader.Read(entry, captures.Find(entry.Stored.Definition.Source));
        if (status.State == entry.LastState)
        {
            return status;
        }

        entry.LastState = status.State;
        entry.StateSince = clock.GetUtcNow();
        return status with { Since = entry.StateSince };
    }

    private async Task CheckAsync(CrossingEntry entry, CancellationToken cancellation)
    {
        entry.Checking = true;
        try
        {
            var plan = await PlanAsync(entry.Stored.Definition, cancellation);
            if (!plan.Ready)
            {
                throw new NotReadyException(plan.Lines);
            }
        }
        finally
        {
            entry.Checking = false;
        }
    }

    private async Task DesireAsync(CrossingEntry entry, DesiredState desired, string by, CancellationToken cancellation)
    {
        var stored = entry.Stored with { Desired = desired, By = by, Since = clock.GetUtcNow() };
        await store.SaveAsync(stored, cancellation);
        entry.Stored = stored;
    }

    /// <summary>
    /// Opens what the crossing needs. Where that fails now, it is tried again by itself until it works or something else is
    /// asked; one spool or target that cannot be reached keeps nobody else from starting.
    /// </summary>
    private async Task OpenAsync(CrossingEntry entry, CancellationToken cancellation)
    {
        var asked = entry.Stored;
        if (!await TryOpenAsync(entry, cancellation))
        {
            _ = OpenLaterAsync(entry, asked);
        }
    }

    private async Task<bool> TryOpenAsync(CrossingEntry entry, CancellationToken cancellation)
    {
        try
        {
            await OpenOnceAsync(entry, cancellation);
            entry.Trouble = null;
            return true;
        }
        catch (Exception exception) when (exception is PortException or IOException)
        {
            logger.LogWarning(exception, "{Crossing} could not be opened", entry.Name);
            entry.Trouble = new CrossingFault(exception.Message, (exception as PortException)?.Mend, entry.Trouble?.Since ?? clock.GetUtcNow());
            return false;
        }
    }

    private async Task OpenLaterAsync(CrossingEntry entry, StoredCrossing asked)
    {
        try
        {
            for (var attempt = 1; ReferenceEquals(entry.Stored, asked); attempt++)
            {
                await Task.Delay(RetryPause.Before(attempt, random), clock, ending.Token);
                using var turn = await entry.Turn.EnterAsync(ending.Token);
                if (!ReferenceEquals(entry.Stored, asked) || await TryOpenAsync(entry, ending.Token))
                {
                    return;
                }
            }
        }
        catch (OperationCanceledException)
        {
            // The end of the process.
        }
    }

    /// <summary>Opens the capture, so that the place is kept, and starts the worker if the crossing is to run.</summary>
    private async Task OpenOnceAsync(CrossingEntry entry, CancellationToken cancellation)
    {
        var definition = entry.Stored.Definition;
        var holding = Entries
            .Where(other => other.Stored.Definition.Source == definition.Source && other.Stored.Desired != DesiredState.Draft)
            .Select(other => other.Name);
        var capture = await captures.OpenAsync(definition.Source, holding, cancellation);
        if (entry.Stored.Desired != DesiredState.Run)
        {
            await KnowAsync(entry, capture, cancellation);
            return;
        }

        var worker = new CrossingWorker(
            definition,
            connections.Source(definition.Source),
            connections.Target(definition.Target),
            capture,
            entry.Meter,
            store,
            Events,
            clock,
            random,
            logger);
        entry.Known = null;
        entry.Worker = worker;
        worker.Start();
        _ = AfterAsync(entry, worker, capture);
    }

    /// <summary>When a worker has ended by itself, what the target then holds is read once more, for the pages.</summary>
    private async Task AfterAsync(CrossingEntry entry, CrossingWorker worker, Capture capture)
    {
        await worker.Running;
        if (!ending.IsCancellationRequested && entry.Worker == worker)
        {
            await KnowAsync(entry, capture, ending.Token);
            if (entry.Stored.Desired is DesiredState.Stop or DesiredState.Pause)
            {
                var place = entry.Known?.Position is { } position ? $" at position {connections.Source(entry.Stored.Definition.Source).Format(position)}" : "";
                await Events.OfCrossingAsync(entry.Name, EventKind.Note, $"{(entry.Stored.Desired == DesiredState.Stop ? "Stopped" : "Paused")}{place}.");
            }
        }
    }

    private async Task KnowAsync(CrossingEntry entry, Capture capture, CancellationToken cancellation)
    {
        try
        {
            entry.Known = await connections.Target(entry.Stored.Definition.Target).ReadProgressAsync(entry.Name, cancellation);
            capture.Spool.Hold(entry.Name, entry.Known.Position);
        }
        catch (Exception exception) when (exception is PortException or OperationCanceledException)
        {
            logger.LogDebug(exception, "The place of {Crossing} could not be read from its target", entry.Name);
        }
    }

    private async Task RestAsync(string crossing, DesiredState desired, StopRequest request, string what, string by, CancellationToken cancellation)
    {
        var entry = Existing(crossing);
        using var turn = await entry.Turn.EnterAsync(cancellation);
        if (entry.Stored.Desired == DesiredState.Draft)
        {
            throw new RequestRefusedException($"{crossing} is a draft.") { Mend = "Nothing needs to be done." };
        }

        await DesireAsync(entry, desired, by, cancellation);
        await Events.OfCrossingAsync(crossing, EventKind.Note, $"{what}.", by);
        if (request.Manner == StopManner.Drain && entry.Worker is { Running.IsCompleted: false } worker)
        {
            worker.Steering.Stop(request);
            return;
        }

        await HaltAsync(entry, request);
    }

    private static async Task HaltAsync(CrossingEntry entry, StopRequest request)
    {
        if (entry.Worker is { } worker)
        {
            worker.Steering.Stop(request);
            await worker.Running;
        }
    }

    /// <summary>Once a second: what the spool knows of each place, and a point of each crossing's measures.</summary>
    private async Task SampleAsync()
    {
        await Task.Yield();
        while (!ending.IsCancellationRequested)
        {
            foreach (var entry in Entries.Where(entry => entry.Stored.Desired != DesiredState.Draft))
            {
                await SampleAsync(entry);
            }

            try
            {
                await Task.Delay(SampleEvery, clock, ending.Token);
            }
            catch (OperationCanceledException)
            {
                return;
            }
        }
    }

    private async Task SampleAsync(CrossingEntry entry)
    {
        if (captures.Find(entry.Stored.Definition.Source) is not { } capture)
        {
            return;
        }

        try
        {
            if (entry.Known is null && entry.Worker is null or { Running.IsCompleted: true })
            {
                await KnowAsync(entry, capture, ending.Token);
            }

            var applied = entry.Known is { } known ? known.Position : entry.Worker?.View.Applied;
            entry.Place = applied is null ? null : await capture.Spool.LocateAsync(applied.Value, ending.Token);
            var status = StatusOf(entry);
            RememberLoadRate(status);
            entry.Meter.Sample(
                clock.GetUtcNow(),
                status.Lag ?? default,
                status.CapturedAge,
                status.SpooledAge - status.CapturedAge,
                status.AppliedAge - status.SpooledAge,
                capture.Spool.Changes,
                status.Backlog);
        }
        catch (Exception exception) when (exception is PortException or IOException or OperationCanceledException or InvalidDataException)
        {
            logger.LogDebug(exception, "{Crossing} could not be sampled", entry.Name);
        }
    }

    private void RememberLoadRate(CrossingStatus status)
    {
        if (status.LoadRate is > 0)
        {
            lock (gate)
            {
                loadRates[status.Definition.Target] = status.LoadRate.Value;
            }
        }
    }
}
