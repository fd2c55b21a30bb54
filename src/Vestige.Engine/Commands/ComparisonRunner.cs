using System.Collections.Concurrent;
using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Observing;
using Vestige.Engine.Ports;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Runs comparisons beside their crossings, one at a time for each. Safe for several threads.</summary>
internal sealed class ComparisonRunner(
    EngineServices services,
    ComparisonViews views,
    Func<CrossingDefinition, CrossingTreatment> treat,
    RepairService repairs
)
{
    private readonly IReconciliationStore? store = services.Stores.Reconciliations;
    private readonly EventLog events = services.Events;
    private readonly TimeProvider clock = services.Clock;
    private readonly ConcurrentDictionary<string, RunningComparison> running = new();

    /// <summary>The comparison at work on a crossing; null when none is.</summary>
    public RunningComparison? Find(string crossing) => running.GetValueOrDefault(crossing);

    /// <summary>
    /// Begins a comparison: as fast as it goes; or at the pace of a rule, as part of the walk over all tables, which is kept and told only
    /// when it finds something.
    /// </summary>
    public async Task<string> RunAsync(
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

    /// <summary>Ends what is compared of a crossing by its rule, so that it continues by the present one.</summary>
    public async Task EndWalkAsync(string crossing, CancellationToken cancellation)
    {
        if (running.GetValueOrDefault(crossing) is { IsWalk: true } walk)
        {
            await walk.Ending.CancelAsync();
            await walk.Work.WaitAsync(cancellation);
        }
    }

    /// <summary>Gives up all that is at work.</summary>
    public async Task EndAsync()
    {
        foreach (var now in running.Values)
        {
            await now.Ending.CancelAsync();
            await now.Work;
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
            var request = views.RequestOf(entry);
            var causes = new CauseFinder(
                entry.Quarantine,
                request.Spool,
                services.Secrets.Spool,
                table => entry.Progress.Tables.FirstOrDefault(one => one.Table == table && !one.Held)?.Position,
                request.Source.Log.Format,
                asked => repairs.ListAsync(entry.Name, asked)
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
            services.Logger.LogWarning(exception, "Comparing {Crossing} failed", entry.Name);
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
            services.Logger.LogWarning(exception, "What comparing {Crossing} found could not be kept", entry.Name);
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
}
