using System.Collections.Concurrent;
using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
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
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(60);
    private static readonly TimeSpan LookAgain = TimeSpan.FromMilliseconds(50);
    private readonly IConnections connections;
    private readonly CrossingRegistry registry;
    private readonly Captures captures;
    private readonly IControlStore control;
    private readonly IReconciliationStore? store;
    private readonly ISpoolCipher cipher;
    private readonly Func<CrossingDefinition, CrossingTreatment> treat;
    private readonly EventLog events;
    private readonly TimeProvider clock;
    private readonly ILogger logger;
    private readonly ConcurrentDictionary<string, RunningComparison> running = new();

    internal ReconcileService(
        EngineServices services,
        CrossingRegistry registry,
        Captures captures,
        Func<CrossingDefinition, CrossingTreatment> treat
    )
    {
        (this.registry, this.captures, this.treat) = (registry, captures, treat);
        (connections, control, store) = (services.Connections, services.Stores.Control, services.Stores.Reconciliations);
        (cipher, events, clock, logger) = (services.Secrets.Spool, services.Events, services.Clock, services.Logger);
        Repairs = new RepairService(registry, connections, store, events, clock, (entry, cancellation) => RequestOf(entry, cancellation));
    }

    /// <summary>Where what differs is repaired.</summary>
    public RepairService Repairs { get; }

    /// <summary>Begins a comparison, and returns its id.</summary>
    public async Task<string> StartAsync(string crossing, ComparisonScope scope, string by, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(scope);
        var entry = registry.Existing(crossing);
        Check(entry, scope);
        await EndWalkAsync(crossing, cancellation);
        var id = await RunAsync(entry, scope, by, null, cancellation);
        await events.OfCrossingAsync(crossing, EventKind.Note, $"Comparing {scope.Words}.", by);
        return id;
    }

    /// <summary>The comparison at work on a crossing; null when none is.</summary>
    public Reconciliation? Running(string crossing) => running.GetValueOrDefault(crossing)?.Now;

    /// <summary>The table at work, and the part of how many; null when none is.</summary>
    public (TableName Table, int Part, int Of)? At(string crossing) => running.GetValueOrDefault(crossing)?.At;

    /// <summary>The comparisons of a crossing, the latest first, without their rows and segments.</summary>
    public async Task<IReadOnlyList<Reconciliation>> ListAsync(string crossing, CancellationToken cancellation) =>
        store is null ? [] : await store.ListAsync(crossing, 100, cancellation);

    /// <summary>A comparison with all that was found; null when there is none of that id.</summary>
    public async Task<Reconciliation?> FindAsync(string crossing, string id, CancellationToken cancellation) =>
        running.GetValueOrDefault(crossing) is { } now && now.Now.Id == id ? now.Shown
        : store is null ? null
        : await store.FindAsync(crossing, id, cancellation);

    /// <summary>What was said of the tables of a crossing; null when there is none of that name.</summary>
    public IReadOnlyCollection<Verdict>? Verdicts(string crossing) => registry.Find(crossing)?.Verdicts.All;

    /// <summary>Gives up the comparison at work; what it has found stays.</summary>
    public async Task CancelAsync(string crossing, string by, CancellationToken cancellation)
    {
        if (running.GetValueOrDefault(crossing) is not { } now)
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
        await EndWalkAsync(crossing, cancellation);
        await events.OfCrossingAsync(
            crossing,
            EventKind.Note,
            rule is null ? "Comparing: only when asked." : $"Comparing: {rule.Words}.",
            by
        );
    }

    /// <summary>Takes over what an earlier process left.</summary>
    internal Task BeginAsync(CancellationToken cancellation) => store?.CloseAsync(cancellation) ?? Task.CompletedTask;

    /// <summary>Whether a comparison is at work.</summary>
    internal bool IsAtWork(string crossing) => running.ContainsKey(crossing);

    /// <summary>Gives up all that is at work.</summary>
    internal async Task EndAsync()
    {
        foreach (var now in running.Values)
        {
            await now.Ending.CancelAsync();
            await now.Work;
        }
    }

    /// <summary>
    /// Begins a comparison: as fast as it goes; or at the pace of a rule, as part of the walk over all tables, which is kept and told only
    /// when it finds something.
    /// </summary>
    internal async Task<string> RunAsync(
        CrossingEntry entry,
        ComparisonScope scope,
        string by,
        ReconcileRule? walk,
        CancellationToken cancellation
    )
    {
        var id = Guid.NewGuid().ToString("N")[..12];
        var began = new Reconciliation(id, entry.Name, scope, by, clock.GetUtcNow(), null, ReconciliationState.Running, null, []);
        var mine = new RunningComparison(began, walk is not null);
        if (!running.TryAdd(entry.Name, mine))
        {
            mine.Dispose();
            throw new RequestRefusedException($"{entry.Name} is being compared already.")
            {
                Remedy = "Wait until that has ended, or give it up.",
            };
        }

        try
        {
            await SaveAsync(mine, cancellation);
        }
        catch
        {
            running.TryRemove(entry.Name, out _);
            throw;
        }

        mine.Work = WorkAsync(entry, mine, walk);
        return id;
    }

    /// <summary>A person comes before the rule, and a rule before the one that it replaces.</summary>
    /// <summary>Ends what is compared of a crossing by its rule, so that it continues by the present one.</summary>
    internal async Task EndWalkAsync(string crossing, CancellationToken cancellation)
    {
        if (running.GetValueOrDefault(crossing) is { IsWalk: true } walk)
        {
            await walk.Ending.CancelAsync();
            await walk.Work.WaitAsync(cancellation);
        }
    }

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
                Remedy = "Name tables of the source that cross.",
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

    private async Task WorkAsync(CrossingEntry entry, RunningComparison mine, ReconcileRule? walk)
    {
        await Task.Yield();
        var (state, note) = (ReconciliationState.Done, (string?)null);
        var scope = mine.Now.Scope;
        var mark = entry.Verdicts.Mark;
        try
        {
            var request = RequestOf(entry, mine.Ending.Token);
            var causes = new CauseFinder(
                entry.Quarantine,
                request.Spool,
                cipher,
                table => entry.Progress.Tables.FirstOrDefault(one => one.Table == table && !one.Held)?.Position,
                request.Source.Log.Format,
                asked => Repairs.ListAsync(entry.Name, asked)
            );
            var comparison = new Comparison(
                request,
                treat(entry.Stored.Definition),
                scope,
                new ReadingPace(walk?.RowsPerSecond, walk?.Share / 100, clock),
                table => entry.Verdicts.Of(table)?.Proved,
                clock
            )
            {
                At = (table, part, of) => mine.At = (table, part, of),
                SoFar = findings => mine.SoFar = findings,
                Found = async findings =>
                {
                    var known = await causes.AddAsync(findings, mine.Ending.Token);
                    mine.SoFar = [];
                    mine.Now = mine.Now with { Tables = [.. mine.Now.Tables, .. known] };
                    if (known.Count > 0)
                    {
                        await entry.Verdicts.TakeAsync(mark, mine.Now, known[0].Source, known, mine.Ending.Token);
                    }

                    await SaveAsync(mine, mine.Ending.Token);
                },
            };
            await comparison.RunAsync(mine.Ending.Token);
        }
        catch (OperationCanceledException) when (mine.Ending.IsCancellationRequested)
        {
            (state, note) = (ReconciliationState.Cancelled, "given up");
        }
        catch (Exception exception) when (exception is not OutOfMemoryException)
        {
            logger.LogWarning(exception, "Comparing {Crossing} failed", entry.Name);
            (state, note) = (ReconciliationState.Failed, exception.Message);
        }

        await EndAsync(entry, mine, state, note);
    }

    private async Task EndAsync(CrossingEntry entry, RunningComparison mine, ReconciliationState state, string? note)
    {
        mine.Now = mine.Now with { State = state, Note = note, EndedAt = clock.GetUtcNow() };
        try
        {
            await SaveAsync(mine, CancellationToken.None);
            if (!mine.IsWalk || mine.Now.Differences > 0)
            {
                var (kind, words) = EventOf(mine.Now);
                await events.OfCrossingAsync(entry.Name, kind, words);
            }
        }
        catch (Exception exception) when (exception is PortException or IOException)
        {
            logger.LogWarning(exception, "What comparing {Crossing} found could not be kept", entry.Name);
        }
        finally
        {
            running.TryRemove(entry.Name, out _);
            mine.Dispose();
        }
    }

    private Task SaveAsync(RunningComparison mine, CancellationToken cancellation) =>
        store is null || (mine.IsWalk && mine.Now.Differences == 0) ? Task.CompletedTask : store.SaveAsync(mine.Now, cancellation);

    private static (EventKind Kind, string Words) EventOf(Reconciliation now)
    {
        var rows = now.Tables.Sum(table => table.SourceRows);
        var unproved = now.Tables.Count(table => table.Reason is not null);
        return now switch
        {
            { State: ReconciliationState.Failed } => (EventKind.Warning, $"Comparing failed: {now.Note}"),
            { State: ReconciliationState.Cancelled } => (EventKind.Note, $"Comparing ended after {Figures.Of(now.Tables.Count, "table")}."),
            { Differences: > 0 } => (
                EventKind.Warning,
                $"Compared {Figures.Of(rows, "row")} of {Figures.Of(now.Tables.Count, "table")}: {Figures.Of(now.Differences, "row")} "
                    + $"{(now.Differences == 1 ? "differs" : "differ")}."
            ),
            _ => (
                EventKind.Note,
                $"Compared {Figures.Of(rows, "row")} of {Figures.Of(now.Tables.Count, "table")}: "
                    + (now.Scope.Proves && unproved == 0 ? "proved equal" : "no row differs")
                    + (unproved == 0 ? "." : $", {Figures.Of(unproved, "table")} could not be compared whole.")
            ),
        };
    }

    private ViewRequest RequestOf(CrossingEntry entry, CancellationToken ending)
    {
        var definition = entry.Stored.Definition;
        var capture = captures.Find(definition.Source) ?? throw new PortException($"The log of {definition.Source} is not being read.");
        return new ViewRequest(
            entry.Name,
            connections.Source(definition.Source),
            connections.Target(definition.Target),
            capture.Spool,
            () => entry.Progress.Position,
            (position, cancellation) => PassAsync(entry, capture, position, cancellation)
        );
    }

    /// <summary>While a crossing runs it is waited for; at rest it is enough that the log is here up to there.</summary>
    private async Task PassAsync(CrossingEntry entry, Capture capture, LogPosition position, CancellationToken cancellation)
    {
        var until = clock.GetUtcNow() + Patience;
        while (entry.Worker is { Running.IsCompleted: false } worker && !(worker.View.Applied >= position))
        {
            if (clock.GetUtcNow() > until && entry.Worker is { Running.IsCompleted: false })
            {
                throw new PortException($"{entry.Name} did not get to what the source holds now within {Figures.Duration(Patience)}.")
                {
                    Remedy = "Compare when it follows.",
                };
            }

            await Task.Delay(LookAgain, clock, cancellation);
        }

        if (entry.Worker is null or { Running.IsCompleted: true })
        {
            using var patience = CancellationTokenSource.CreateLinkedTokenSource(cancellation);
            patience.CancelAfter(Patience);
            try
            {
                await capture.ReachAsync(position, patience.Token);
            }
            catch (OperationCanceledException exception) when (!cancellation.IsCancellationRequested)
            {
                throw new PortException(
                    $"The log of {entry.Stored.Definition.Source} is not read up to what the source holds now.",
                    exception
                )
                {
                    Remedy = "See why its reader waits.",
                };
            }
        }
    }

    private sealed class RunningComparison(Reconciliation began, bool isWalk) : IDisposable
    {
        public bool IsWalk => isWalk;

        private volatile Reconciliation now = began;
        private volatile Tuple<TableName, int, int>? at;
        private volatile IReadOnlyList<TableFinding> soFar = [];

        /// <summary>What was found so far of the table at work.</summary>
        public IReadOnlyList<TableFinding> SoFar
        {
            set => soFar = value;
        }

        /// <summary>With what was found so far of the table at work.</summary>
        public Reconciliation Shown => now with { Tables = [.. now.Tables, .. soFar] };

        public Reconciliation Now
        {
            get => now;
            set => now = value;
        }

        public (TableName Table, int Part, int Of)? At
        {
            get => at is { } now ? (now.Item1, now.Item2, now.Item3) : null;
            set => at = value is { } now ? Tuple.Create(now.Table, now.Part, now.Of) : null;
        }

        public CancellationTokenSource Ending { get; } = new();

        public Task Work { get; set; } = Task.CompletedTask;

        public void Dispose() => Ending.Dispose();
    }
}
