using System.Collections.Concurrent;
using Vestige.Core.Crossings;
using Vestige.Core.Reconciling;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Backfilling;

/// <summary>
/// Where people have rows of a range, or some of their columns, written as the source has them while the crossing follows. One at a time
/// for each crossing. It ends with the process; what was written is right. Throws <see cref="RequestRefusedException"/> for what cannot be.
/// Safe for several threads.
/// </summary>
public sealed class BackfillService
{
    private readonly CrossingRegistry registry;
    private readonly RepairService repairs;
    private readonly Func<CrossingEntry, ViewRequest> request;
    private readonly Func<CrossingDefinition, CrossingTreatment> treat;
    private readonly EventLog events;
    private readonly TimeProvider clock;
    private readonly ConcurrentDictionary<string, Job> jobs = new();

    internal BackfillService(
        EngineServices services,
        CrossingRegistry registry,
        RepairService repairs,
        Func<CrossingEntry, ViewRequest> request,
        Func<CrossingDefinition, CrossingTreatment> treat
    )
    {
        (this.registry, this.repairs, this.request, this.treat) = (registry, repairs, request, treat);
        (events, clock) = (services.Events, services.Clock);
    }

    /// <summary>The backfill of a crossing that is running; null when none is.</summary>
    public Backfill? Running(string crossing) => jobs.GetValueOrDefault(crossing)?.Wanted;

    /// <summary>Begins; an event says when it is done. Returns when it is known that it can be.</summary>
    public async Task StartAsync(Backfill wanted, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(wanted);
        var entry = registry.Existing(wanted.Crossing);
        if (entry.Progress.Tables.All(table => table.Table != wanted.Table))
        {
            throw new RequestRefusedException($"The crossing has no table {wanted.Table}.") { Remedy = "Name a table of this crossing." };
        }

        RepairService.ThrowIfResting(entry);
        if (wanted is { From: null, Before: null, Columns.Count: 0 })
        {
            throw new RequestRefusedException("Neither columns nor a range of keys are given.")
            {
                Remedy = "Give one of them, or reload the table.",
            };
        }

        var run = new BackfillRun(entry, request(entry), treat(entry.Stored.Definition), repairs);
        var job = new Job(wanted with { At = clock.GetUtcNow() });
        if (!jobs.TryAdd(wanted.Crossing, job))
        {
            job.Dispose();
            throw new RequestRefusedException($"Rows of {wanted.Crossing} are being written already.")
            {
                Remedy = "Wait until that is done, or stop it.",
            };
        }

        try
        {
            var spans = await run.CutAsync(job.Wanted, cancellation);
            await events.OfCrossingAsync(wanted.Crossing, EventKind.Note, $"Backfill of {wanted.Words}.", wanted.By);
            job.Running = RunAsync(job, run, spans);
        }
        catch
        {
            jobs.TryRemove(wanted.Crossing, out _);
            job.Dispose();
            throw;
        }
    }

    /// <summary>Stops the one that is running; what was written stays, and is right.</summary>
    public async Task StopAsync(string crossing)
    {
        if (!jobs.TryGetValue(crossing, out var job))
        {
            throw new RequestRefusedException("No rows are being written.") { Remedy = "Nothing needs to be done." };
        }

        job.Stop();
        await job.Running;
    }

    /// <summary>Stops all; the process ends.</summary>
    internal async Task EndAsync()
    {
        foreach (var job in jobs.Values)
        {
            job.Stop();
            await job.Running;
        }
    }

    /// <summary>Never throws: how it ends is an event, written before it is over for others.</summary>
    private async Task RunAsync(Job job, BackfillRun run, IReadOnlyList<KeySpan> spans)
    {
        await Task.Yield();
        var end = "Backfill done";
        var why = "";
        try
        {
            await run.RunAsync(job.Wanted, spans, job.Tell, job.Cancellation);
        }
        catch (OperationCanceledException) when (job.IsStopped)
        {
            end = "Backfill stopped";
        }
        catch (Exception exception) when (exception is not OutOfMemoryException)
        {
            (end, why) = ("Backfill not finished", $" {exception.Message}");
        }

        await events.OfCrossingAsync(job.Wanted.Crossing, EventKind.Warning, $"{end}: {job.Wanted.Told}.{why}", job.Wanted.By);
        jobs.TryRemove(job.Wanted.Crossing, out _);
        job.Dispose();
    }

    private sealed class Job(Backfill wanted) : IDisposable
    {
        private readonly Lock gate = new();
        private readonly CancellationTokenSource giving = new();
        private volatile Backfill current = wanted;
        private bool isOver;

        public Backfill Wanted => current;

        public Task Running { get; set; } = Task.CompletedTask;

        public bool IsStopped { get; private set; }

        public CancellationToken Cancellation => giving.Token;

        public void Tell(BackfillProgress progress) => current = current with { Progress = progress };

        public void Stop()
        {
            lock (gate)
            {
                IsStopped = true;
                if (!isOver)
                {
                    giving.Cancel();
                }
            }
        }

        public void Dispose()
        {
            lock (gate)
            {
                isOver = true;
                giving.Dispose();
            }
        }
    }
}
