using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Capturing;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Loading;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Measuring;

/// <summary>Makes the picture of a crossing from what its worker, its capture and its meter say.</summary>
internal sealed class StatusReader(IConnections connections, TimeProvider clock)
{
    private static readonly TimeSpan FallsBehind = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan CaughtUp = TimeSpan.FromSeconds(2);

    /// <summary>The head is sampled every second; one this old proves nothing, whatever stands on the line.</summary>
    private static readonly TimeSpan HeadAge = TimeSpan.FromSeconds(5);

    public CrossingStatus Read(CrossingEntry entry, Capture? capture)
    {
        var now = clock.GetUtcNow();
        var view = entry.Worker?.View;
        var log = entry.Stored.NeedsLog ? capture?.Status : null;
        var progress = entry.Progress;
        var applied = progress.Position;
        var lag = applied is null || log is null ? (LagReading?)null : LagOf(now, entry, view, log, applied.Value);
        var state = StateOf(entry, view, lag);
        var (arriving, appliedRate) = entry.Meter.Rates();
        var backlog = BacklogOf(view?.Place ?? entry.Place, capture, applied);
        var waiting = view?.Waiting ?? (entry.Trouble is { IsLasting: false } ? entry.Trouble : null);
        var atWork =
            state is CrossingState.CatchingUp or CrossingState.Following && waiting is null && !entry.Stored.Definition.RestsAt(now);
        var clears = entry.Meter.WhenClear(lag is { Current: true } ? 0 : backlog.Changes, atWork);

        // What is in hand for a moment while it follows fills nothing.
        var left = state == CrossingState.Following && atWork && lag?.Behind < CaughtUp ? clears with { Left = RateRange.Zero } : clears;
        var captured = log is null ? TimeSpan.Zero : Uncaptured(now, log, applied, lag);
        var spooled = log is null ? TimeSpan.Zero : Max(captured, LagRule.Age(now, log.FirstUnspooled));
        var load = view?.Load;
        var (ends, rate) = LoadForecast(now, load);
        return new CrossingStatus(
            entry.Stored.Definition,
            state,
            entry.StateSince,
            entry.Stored.By,
            view?.Fault ?? (entry.Trouble is { IsLasting: true } ? entry.Trouble : null),
            waiting,
            lag,
            captured,
            spooled,
            Max(spooled, lag?.Behind ?? TimeSpan.Zero),
            entry.Meter.MeanHops(now),
            entry.Meter.P95(now),
            arriving,
            appliedRate,
            backlog.Changes,
            backlog.Transactions,
            BytesBehind(entry, capture?.Spool, log, applied),
            applied,
            clears,
            atWork,
            capture is null || log is null ? LogExhaustion.None : ExhaustionReader.Read(entry.Name, left, capture.Spool, log, now),
            null,
            ends,
            LoadRange(load, entry.Meter),
            rate,
            entry.Meter.PastForecasts,
            log,
            entry.Stored.Desired == DesiredState.KeepLog && capture is not null
                ? LogRetention.AfterOf(entry.Stored.Definition, capture.Spool)
                : null,
            entry.Stored.Until,
            view is { Ended: false } ? view.Resting : null,
            state == CrossingState.Stopped ? entry.NextRun : null,
            DelayCause.Of(entry.Stored.Definition, view, log, entry.Meter, entry.Diagnosis, now),
            Tables(entry, progress, state, load, lag)
        );
    }

    private static LagReading LagOf(DateTimeOffset now, CrossingEntry entry, WorkerView? view, CaptureStatus log, LogPosition applied)
    {
        var oldest = view is { Ended: false } ? view.OldestInHand : null;
        if (oldest is null && applied < log.Spooled)
        {
            oldest = entry.Place is { } place && place.Position == applied ? place.NextCommittedAt : null;
        }

        oldest ??= log.FirstUnspooled;
        var cut = !log.Running || now - log.SampledAt > HeadAge;
        return LagRule.Read(
            now + log.ClockDifference,
            oldest,
            log.ProvenAt + log.ClockDifference,
            log.PassedHead && applied >= log.Spooled,
            cut
        );
    }

    /// <summary>Where all that was captured is applied, whatever it is behind by is not captured yet.</summary>
    private static TimeSpan Uncaptured(DateTimeOffset now, CaptureStatus log, LogPosition? applied, LagReading? lag) =>
        applied >= log.Spooled && log.FirstUnspooled is null && lag is { } reading ? reading.Behind : LagRule.Age(now, log.FirstUncaptured);

    private static CrossingState StateOf(CrossingEntry entry, WorkerView? view, LagReading? lag)
    {
        if (entry.Checking)
        {
            return CrossingState.Checking;
        }

        if (view is { Ended: false })
        {
            if (view.Load is not null)
            {
                return CrossingState.Loading;
            }

            if (view.Applied is null)
            {
                return CrossingState.Checking;
            }

            entry.KeepsUp =
                view.Following
                && lag is { } reading
                && (entry.KeepsUp ? reading.Behind < FallsBehind : reading.Current || reading.Behind < CaughtUp);
            return entry.KeepsUp ? CrossingState.Following : CrossingState.CatchingUp;
        }

        entry.KeepsUp = false;
        if (view?.Fault is not null)
        {
            return CrossingState.Faulted;
        }

        return entry.Stored.Desired switch
        {
            DesiredState.Pause => CrossingState.Paused,
            DesiredState.Stop => CrossingState.Stopped,
            DesiredState.Draft or DesiredState.KeepLog => CrossingState.Draft,
            DesiredState.Finish => CrossingState.Finished,
            DesiredState.Run when entry.NextRun is not null && entry.Trouble is null => CrossingState.Stopped,
            _ => entry.Trouble is { IsLasting: true } ? CrossingState.Faulted : CrossingState.Checking,
        };
    }

    private static (long Changes, long Transactions) BacklogOf(SpoolPlace? place, Capture? capture, LogPosition? applied)
    {
        if (capture is null || applied is null || place is null || applied >= capture.Spool.Last)
        {
            return (0, 0);
        }

        return (Math.Max(0, capture.Spool.Changes - place.Changes), Math.Max(0, capture.Spool.Transactions - place.Transactions));
    }

    /// <summary>Null also where the source's connection cannot be opened.</summary>
    private long? BytesBehind(CrossingEntry entry, Spool? spool, CaptureStatus? log, LogPosition? applied)
    {
        if (log is null || applied is null)
        {
            return null;
        }

        try
        {
            var source = connections.Source(entry.Stored.Definition.Source).Log;
            var head = LogPosition.Max(applied.Value, log.Head);
            return Math.Max(0, spool?.Distance(source, applied.Value, head) ?? source.Distance(applied.Value, head));
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException)
        {
            return null;
        }
    }

    private static (TimeSpan? Ends, double? Rate) LoadForecast(DateTimeOffset now, ILoad? load)
    {
        if (load?.StartedAt is not { } started)
        {
            return (null, null);
        }

        var done = load.Tables.Sum(table => table.Rows);
        var all = load.Tables.Sum(table => Math.Max(table.EstimatedRows, table.Rows));
        var seconds = (now - started).TotalSeconds;
        if (done == 0 || seconds <= 0)
        {
            return (null, 0);
        }

        var rate = done / seconds;
        return (TimeSpan.FromSeconds((all - done) / rate), rate);
    }

    private static (TimeSpan Soonest, TimeSpan? Latest)? LoadRange(ILoad? load, CrossingMeter meter)
    {
        if (load is null || meter.LoadRange is not { High: > 0 } rates)
        {
            return null;
        }

        var left = load.Tables.Sum(table => Math.Max(0, table.EstimatedRows - table.Rows));
        return Forecast.WhenFull(0, left, rates.High) is { } soonest ? (soonest, Forecast.WhenFull(0, left, rates.Low)) : null;
    }

    /// <summary>Where the target's connection cannot be opened, tables are shown under the source's names.</summary>
    private Func<TableName, IReadOnlyList<TableName>> IntoOf(TableOptions ways)
    {
        try
        {
            var target = connections.Target(ways.Definition.Target);
            return name => ways.Into(name, target);
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException)
        {
            return name => [name];
        }
    }

    private List<TableStatus> Tables(CrossingEntry entry, TargetProgress progress, CrossingState state, ILoad? load, LagReading? lag)
    {
        var ways = entry.Ways;
        var into = IntoOf(ways);
        var known = progress.Tables.Where(table => ways.Takes(table.Table)).ToDictionary(table => table.Table);
        var waiting = entry.Quarantine.UpTo(progress.Position).CountBy(change => change.Table).ToDictionary();
        var loads = load?.Tables.ToDictionary(table => table.Table.Name) ?? [];
        return
        [
            .. (loads.Count == 0 ? known.Keys : known.Keys.Union(loads.Keys))
                .Order()
                .Select(name =>
                {
                    var table = known.GetValueOrDefault(name);
                    var loading = loads.GetValueOrDefault(name);
                    return new TableStatus(
                        name,
                        into(name),
                        TableStateOf(table, loading, state, waiting.ContainsKey(name)),
                        table?.HeldCause
                            ?? (
                                waiting.TryGetValue(name, out var changes)
                                    ? $"{Figures.Of(changes, "change")} of it {(changes == 1 ? "waits" : "wait")} in quarantine; all "
                                        + "its other rows go on."
                                    : null
                            ),
                        loading?.Rows ?? 0,
                        loading?.EstimatedRows,
                        waiting.GetValueOrDefault(name),
                        loading is null && table is { Loaded: true, Held: false } ? lag?.Behind : null,
                        entry.Verdicts.Of(name),
                        entry.Meter.TallyOf(name)
                    );
                }),
        ];
    }

    private static TableState TableStateOf(TableProgress? table, TableLoad? loading, CrossingState state, bool waits)
    {
        if (loading is not null)
        {
            return loading.Done ? TableState.CatchingUp
                : loading.Rows > 0 ? TableState.Loading
                : TableState.Waiting;
        }

        return table switch
        {
            null or { Loaded: false } => TableState.Waiting,
            { Held: true } => TableState.Held,
            _ when waits => TableState.Held,
            _ => state == CrossingState.Following ? TableState.Following : TableState.CatchingUp,
        };
    }

    private static TimeSpan Max(TimeSpan left, TimeSpan right) => left > right ? left : right;
}
