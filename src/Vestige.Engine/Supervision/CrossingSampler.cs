using Microsoft.Extensions.Logging;
using Vestige.Core.Crossings;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Supervision;

/// <summary>Says how each crossing stands, and keeps its measures: a point a second. Safe for several threads.</summary>
internal sealed class CrossingSampler(IConnections connections, CrossingBook book, Captures captures, CrossingOpener opener, MeasureKeeper? keeper, TimeProvider clock, ILogger logger)
{
    private static readonly TimeSpan SampleEvery = TimeSpan.FromSeconds(1);
    private readonly StatusReader reader = new(connections, clock);
    private readonly Lock gate = new();
    private readonly Dictionary<string, double> loadRates = [];

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
        var status = reader.Read(entry, captures.Find(entry.Stored.Definition.Source));
        if (status.State == entry.LastState)
        {
            return status;
        }

        entry.LastState = status.State;
        entry.StateSince = clock.GetUtcNow();
        return status with { Since = entry.StateSince };
    }

    /// <summary>Once a second: what the spool knows of each place, and a point of each crossing's measures.</summary>
    public async Task RunAsync(CancellationToken ending)
    {
        await Task.Yield();
        while (!ending.IsCancellationRequested)
        {
            foreach (var entry in book.All.Where(entry => entry.Stored.NeedsLog))
            {
                await SampleAsync(entry, ending);
            }

            try
            {
                if (keeper is not null)
                {
                    await keeper.KeepAsync([.. book.All.Select(entry => (entry.Name, entry.Meter))], clock.GetUtcNow(), ending);
                }

                await Task.Delay(SampleEvery, clock, ending);
            }
            catch (OperationCanceledException)
            {
                return;
            }
        }
    }

    private async Task SampleAsync(CrossingEntry entry, CancellationToken ending)
    {
        if (captures.Find(entry.Stored.Definition.Source) is not { } capture)
        {
            return;
        }

        try
        {
            if (entry.Known is null && entry.Worker is null or { Running.IsCompleted: true })
            {
                await opener.KnowAsync(entry, capture, ending);
            }

            var applied = entry.Known is { } known ? known.Position : entry.Worker?.View.Applied;
            entry.Place = applied is null ? null : await capture.Spool.LocateAsync(applied.Value, ending);
            var status = StatusOf(entry);
            RememberLoadRate(status);
            entry.Meter.Sample(
                clock.GetUtcNow(),
                status.Lag ?? default,
                status.CapturedAge,
                status.SpooledAge - status.CapturedAge,
                status.AppliedAge - status.SpooledAge,
                capture.Spool.Changes,
                status.Backlog,
                status.State is CrossingState.CatchingUp or CrossingState.Following);
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
