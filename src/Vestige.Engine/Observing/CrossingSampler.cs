using Microsoft.Extensions.Logging;
using Vestige.Core.Alerts;
using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Engine.Alerting;
using Vestige.Engine.Commands;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Observing;

/// <summary>Says how each crossing stands, and keeps its measures: a point a second. Safe for several threads.</summary>
internal sealed class CrossingSampler(
    EngineServices services,
    CrossingRegistry registry,
    Captures captures,
    CrossingOpener opener,
    RunRecorder runRecorder,
    MeasureRecorder? recorder,
    AlertService? alerts
)
{
    private readonly TimeProvider clock = services.Clock;
    private readonly ILogger logger = services.Logger;
    private static readonly TimeSpan SampleEvery = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan DiagnoseAfter = TimeSpan.FromSeconds(1);
    private static readonly TimeSpan DiagnoseFor = TimeSpan.FromSeconds(1);
    private readonly StatusReader reader = new(services.Connections, services.Events, services.Clock);
    private readonly Lock gate = new();
    private long spentTicks;
    private long measuringTicks;
    private readonly Dictionary<string, double> loadRates = [];
    private volatile Dictionary<string, CrossingStatus> fillers = [];

    /// <summary>Time spent in looking at crossings, keeping their measures and raising alerts, since the process started.</summary>
    public TimeSpan Spent => new(Interlocked.Read(ref spentTicks));

    /// <summary>Of that, in keeping measures alone.</summary>
    public TimeSpan SpentMeasuring => new(Interlocked.Read(ref measuringTicks));

    /// <summary>Rows per second of the last load into a target; null when none was measured by this process.</summary>
    public double? LoadRate(string target)
    {
        lock (gate)
        {
            return loadRates.TryGetValue(target, out var rate) ? rate : null;
        }
    }

    /// <summary>How it stands now, and since when it is in its state.</summary>
    public CrossingStatus StatusOf(CrossingEntry entry)
    {
        var status = OfItsSource(reader.Read(entry, captures.Find(entry.Stored.Definition.Source)));
        entry.KeepsUp = status.State == CrossingState.Following;
        if (status.State == entry.LastState)
        {
            return status;
        }

        entry.LastState = status.State;
        entry.StateSince = clock.GetUtcNow();
        return status with { Since = entry.StateSince };
    }

    /// <summary>A spool is one for all crossings of its source: whichever fills it first holds all of them.</summary>
    private CrossingStatus OfItsSource(CrossingStatus status) =>
        fillers.TryGetValue(status.Definition.Source, out var filler)
        && filler.Name != status.Name
        && filler.Exhaustion.IsBefore(status.Exhaustion)
            ? status with
            {
                Exhaustion = filler.Exhaustion,
                ExhaustedBy = filler.Name,
            }
            : status;

    /// <summary>Once a second: what the spool knows of each place, and a point of each crossing's measures.</summary>
    public async Task RunAsync(CancellationToken ending)
    {
        await Task.Yield();
        while (!ending.IsCancellationRequested)
        {
            var began = clock.GetTimestamp();
            var seen = new Dictionary<string, CrossingStatus>();
            foreach (var entry in registry.All.Where(entry => entry.Stored.NeedsLog))
            {
                await SampleAsync(entry, seen, ending);
            }

            fillers = seen
                .Values.Where(status => status.ExhaustedBy is null && status.Exhaustion != LogExhaustion.None)
                .GroupBy(status => status.Definition.Source)
                .ToDictionary(
                    same => same.Key,
                    same => same.Aggregate((first, other) => other.Exhaustion.IsBefore(first.Exhaustion) ? other : first)
                );
            try
            {
                if (alerts is not null)
                {
                    await LookAsync(alerts, seen, ending);
                }

                if (recorder is not null)
                {
                    var keeps = clock.GetTimestamp();
                    await recorder.KeepAsync([.. registry.All.Select(entry => (entry.Name, entry.Meter))], clock.GetUtcNow(), ending);
                    Interlocked.Add(ref measuringTicks, clock.GetElapsedTime(keeps).Ticks);
                }

                await runRecorder.KeepNowAsync(registry.All);
                AddSpent(clock.GetElapsedTime(began));
                await Task.Delay(SampleEvery, clock, ending);
            }
            catch (OperationCanceledException)
            {
                return;
            }
        }
    }

    private void AddSpent(TimeSpan time) => Interlocked.Add(ref spentTicks, time.Ticks);

    /// <summary>A target that is long at one call is asked what it waits for, beside that call and not for long.</summary>
    private async Task DiagnoseAsync(CrossingEntry entry, CancellationToken ending)
    {
        if (
            entry.Worker is not { Running.IsCompleted: false } worker
            || worker.View.InHand is not { } hand
            || clock.GetUtcNow() - hand.Since < DiagnoseAfter
        )
        {
            entry.Diagnosis = null;
            return;
        }

        using var patience = new Patience(DiagnoseFor, clock, ending);
        var said = await worker.WhyWaitingAsync(patience.Token);
        entry.Diagnosis = ReferenceEquals(entry.Worker, worker) ? said : null;
    }

    /// <summary>Whether all tables concerned are loaded again, were proved equal since, or are gone.</summary>
    private static bool IsCleared(Need need, DateTimeOffset since, Dictionary<string, CrossingStatus> seen)
    {
        // Until tables were grouped, each was named alone.
        var names = need.Tables ?? (need.About is { } one ? [one] : []);
        return seen.GetValueOrDefault(need.Crossing) is not { } status
            || status
                .Tables.Where(table => names.Contains(table.Source.ToString()))
                .All(table => table.State == TableState.Loading || (table.Verdict?.Proved is { } proof && proof.At > since));
    }

    /// <summary>What holds of each crossing now, and what is not ready any more, as last checked.</summary>
    private async Task LookAsync(AlertService alerts, Dictionary<string, CrossingStatus> seen, CancellationToken ending)
    {
        var (entries, now) = (registry.All, clock.GetUtcNow());
        var needs = entries
            .Where(entry => seen.ContainsKey(entry.Name))
            .SelectMany(entry => NeedReader.Of(seen[entry.Name], now).Concat(entry.NotReady ?? Unchecked(alerts, entry.Name)))
            .ToList();

        // What rests for good needs nobody; one that could not be looked at is as it was, and so is one whose target has not been asked
        // yet.
        var looked = entries
            .Where(entry => (seen.ContainsKey(entry.Name) && entry.IsKnown) || !entry.Stored.NeedsLog)
            .Select(entry => entry.Name)
            .ToHashSet();
        try
        {
            await alerts.LookAsync(
                name =>
                    looked.Contains(name) ? true
                    : registry.Find(name) is null ? null
                    : false,
                needs,
                (need, since) => IsCleared(need, since, seen),
                ending
            );
        }
        catch (Exception exception) when (exception is not (OutOfMemoryException or OperationCanceledException))
        {
            logger.LogWarning(exception, "Alerts could not be looked after");
        }
    }

    /// <summary>What was not ready when the process ended, until it is checked again.</summary>
    private static IEnumerable<Need> Unchecked(AlertService alerts, string crossing) =>
        alerts
            .Standing.Where(alert => alert.Need.Kind == NeedKind.ReadinessLost && alert.Need.Crossing == crossing)
            .Select(alert => alert.Need);

    private async Task SampleAsync(CrossingEntry entry, Dictionary<string, CrossingStatus> seen, CancellationToken ending)
    {
        if (captures.Find(entry.Stored.Definition.Source) is not { } capture)
        {
            // Its source or spool could not be opened, which is what it has to tell.
            if (entry.Trouble is not null)
            {
                seen[entry.Name] = StatusOf(entry);
            }

            return;
        }

        try
        {
            var worker = entry.Worker;
            if (entry.Known is null && worker is null or { Running.IsCompleted: true })
            {
                await opener.KnowAsync(entry, worker, capture, ending);
            }

            // Beside the others: a target that hangs takes its time to say what it waits for.
            if (entry.Diagnosing.IsCompleted)
            {
                entry.Diagnosing = DiagnoseAsync(entry, ending);
            }

            var applied = entry.Known is { } known ? known.Position : entry.Worker?.View.Applied;
            entry.Place = applied is null ? null : await capture.Spool.LocateAsync(applied.Value, ending);
            var status = StatusOf(entry);
            seen[entry.Name] = status;
            RememberLoadRate(status);
            var began = clock.GetTimestamp();
            KeepForecasts(entry.Meter, status, clock.GetUtcNow());
            entry.Meter.SampleLoad(
                status.State == CrossingState.Loading ? status.Tables.Sum(table => table.RowsLoaded) : null,
                clock.GetUtcNow()
            );
            entry.Meter.Sample(
                clock.GetUtcNow(),
                status.Lag ?? default,
                status.CapturedAge,
                status.SpooledAge - status.CapturedAge,
                status.AppliedAge - status.SpooledAge,
                capture.Spool.Changes,
                status.Backlog,
                status.AtWork
            );
            Interlocked.Add(ref measuringTicks, clock.GetElapsedTime(began).Ticks);
        }
        catch (Exception exception) when (exception is not OutOfMemoryException)
        {
            // Whatever it is, the others are looked at all the same.
            logger.LogDebug(exception, "{Crossing} could not be sampled", entry.Name);
        }
    }

    /// <summary>Holds what is forecast against what happens.</summary>
    private static void KeepForecasts(CrossingMeter meter, CrossingStatus status, DateTimeOffset now)
    {
        var isCurrent = status.Lag is { Current: true };
        var isLoading = status.State == CrossingState.Loading;
        meter.Forecasts(ForecastKind.Clearing, status.AtWork ? status.Clears.Time : null, status.AtWork && isCurrent, now);
        meter.Forecasts(
            ForecastKind.Load,
            isLoading ? new ForecastTime(status.LoadEndsIn, status.LoadRange?.Soonest, status.LoadRange?.Latest) : null,
            status.State is CrossingState.CatchingUp or CrossingState.Following,
            now
        );

        // What fills is held against the outcome however its rate goes, until nothing is left behind.
        meter.Forecasts(
            ForecastKind.SpoolFull,
            isCurrent ? null : status.Exhaustion.SpoolFull,
            status.Exhaustion.SpoolFull.In == TimeSpan.Zero,
            now
        );
        meter.Forecasts(ForecastKind.LogLost, isCurrent ? null : status.Exhaustion.LogLost, status.Capture is { LostPlace: true }, now);
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
