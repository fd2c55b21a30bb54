using Vestige.Core.Forecasting;
using Vestige.Core.Lag;
using Vestige.Core.Measures;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Measuring;

/// <summary>
/// What a crossing has done, since the process started: one point a second for the last hour, delays per transaction of
/// the last five minutes, tallies per table. Written by the worker and by the engine's timer, read by anybody.
/// </summary>
public sealed class CrossingMeter
{
    private const int PointsKept = 3600;
    private const int RecentKept = 60;
    private const int ForecastPoints = 60;
    private static readonly TimeSpan HopWindow = TimeSpan.FromSeconds(10);
    private readonly Lock gate = new();
    private readonly PointRing points = new(PointsKept);
    private readonly LinkedList<RecentChange> recent = [];
    private readonly Dictionary<TableName, TableTally> tallies = [];
    private readonly RecentDelays delays = new();
    private readonly OwnRests rests = new();
    private readonly Queue<(DateTimeOffset At, HopDelays Sum, long Transactions)> hops = [];
    private readonly AppliedTimes applied = new();
    private readonly HeldForecasts forecasts = new();
    private readonly LoadPace loadPace = new();
    private long loaded;
    private (TimeSpan Time, long Changes) lastTook;
    private DateTimeOffset lastAt;
    private long lastArrived;
    private long lastApplied;
    private bool idleSeen = true;
    private TimeSpan? p95;
    private DateTimeOffset p95At;

    /// <summary>Changes applied since the process started.</summary>
    public long Applied { get; private set; }

    /// <summary>
    /// Notes that the worker found nothing to do, so the second holds no measure of capacity. To be held by a limit is not that: then the
    /// limit is the capacity.
    /// </summary>
    public void Idle() => idleSeen = true;

    /// <summary>From a moment on it rests on its own account.</summary>
    public void RestBegins(OwnRest kind, DateTimeOffset at)
    {
        lock (gate)
        {
            rests.Begin(kind, at);
        }
    }

    /// <summary>It no longer rests for this.</summary>
    public void RestEnds(OwnRest kind, DateTimeOffset at)
    {
        lock (gate)
        {
            rests.End(kind, at);
        }
    }

    /// <summary>How long it rested within a span.</summary>
    public TimeSpan Rested(DateTimeOffset from, DateTimeOffset to)
    {
        lock (gate)
        {
            return rests.Within(from, to);
        }
    }

    /// <summary>Takes what a committed batch did.</summary>
    public void Committed(BatchReport report, DateTimeOffset now)
    {
        ArgumentNullException.ThrowIfNull(report);
        lock (gate)
        {
            Applied += report.Changes;
            if (report.Upto > LogPosition.Zero)
            {
                applied.Add(report.Upto, now);
            }

            foreach (var (table, tally) in report.Tallies)
            {
                tallies[table] = tallies.GetValueOrDefault(table, TableTally.None).Plus(tally);
            }

            foreach (var change in report.Recent)
            {
                recent.AddFirst(change);
            }

            while (recent.Count > RecentKept)
            {
                recent.RemoveLast();
            }

            var sum = default(HopDelays);
            foreach (var delay in report.Delays)
            {
                delays.Record(delay.Total, now);
                sum = new HopDelays(
                    sum.Capture + delay.Capture,
                    sum.Spool + delay.Spool,
                    sum.Treatment + delay.Treatment,
                    sum.Apply + delay.Apply,
                    sum.Rest + delay.Rest
                );
            }

            if (report.Delays.Count > 0)
            {
                hops.Enqueue((now, sum, report.Delays.Count));
            }

            while (hops.Count > 0 && now - hops.Peek().At > HopWindow)
            {
                hops.Dequeue();
            }
        }
    }

    /// <summary>Notes how long the target took for some changes.</summary>
    public void Took(TimeSpan time, long changes)
    {
        lock (gate)
        {
            lastTook = (time, changes);
        }
    }

    /// <summary>How long the target last took, and for how many changes.</summary>
    public (TimeSpan Time, long Changes) LastTook
    {
        get
        {
            lock (gate)
            {
                return lastTook;
            }
        }
    }

    /// <summary>By when a position was applied; null when it was not, or that is not remembered.</summary>
    public DateTimeOffset? AppliedAt(LogPosition position)
    {
        lock (gate)
        {
            return applied.Of(position);
        }
    }

    /// <summary>Up to where it had applied by the end of a minute that is over; null when it applied nothing in it.</summary>
    public AppliedTime? AppliedIn(DateTimeOffset minute)
    {
        lock (gate)
        {
            return applied.LastOf(minute);
        }
    }

    /// <summary>Takes what an earlier process has applied by when, oldest first, before anything of its own.</summary>
    public void Recall(IReadOnlyList<AppliedTime> times)
    {
        lock (gate)
        {
            applied.Recall(times);
        }
    }

    /// <summary>Takes what is forecast now, as <see cref="HeldForecasts"/> does.</summary>
    public void Forecasts(ForecastKind kind, ForecastTime? forecast, bool happened, DateTimeOffset now)
    {
        lock (gate)
        {
            forecasts.Note(kind, forecast, happened, now);
        }
    }

    /// <summary>How good its forecasts were.</summary>
    public ForecastQualities PastForecasts
    {
        get
        {
            lock (gate)
            {
                return forecasts.Qualities;
            }
        }
    }

    /// <summary>Forecasts that were judged since this was asked last, with all of their kind.</summary>
    public IReadOnlyList<(ForecastKind Kind, IReadOnlyList<ScoredForecast> Judged)> TakeScored()
    {
        lock (gate)
        {
            return forecasts.TakeUnkept();
        }
    }

    /// <summary>Takes what an earlier process has judged of one kind, the oldest first, before anything of its own.</summary>
    public void Recall(ForecastKind kind, IReadOnlyList<ScoredForecast> judged)
    {
        lock (gate)
        {
            forecasts.Recall(kind, judged);
        }
    }

    /// <summary>Notes how many rows the load at hand has written, once a second; null when none is at hand.</summary>
    public void SampleLoad(long? rows, DateTimeOffset now)
    {
        lock (gate)
        {
            loadPace.Sample(rows, now);
        }
    }

    /// <summary>
    /// The quartiles of the rows a second that the load at hand has written, the lower first; null where less than four seconds were seen.
    /// </summary>
    public (double Low, double High)? LoadRange
    {
        get
        {
            lock (gate)
            {
                return loadPace.Range;
            }
        }
    }

    /// <summary>Notes rows that an initial load has written.</summary>
    public void Loaded(long rows)
    {
        lock (gate)
        {
            loaded += rows;
        }
    }

    /// <summary>All that it has done.</summary>
    public RunCounts Counts
    {
        get
        {
            lock (gate)
            {
                return new RunCounts(
                    loaded,
                    tallies.Values.Sum(tally => tally.Inserts),
                    tallies.Values.Sum(tally => tally.Updates),
                    tallies.Values.Sum(tally => tally.Deletes),
                    tallies.Values.Sum(tally => tally.Truncates + tally.SchemaChanges)
                );
            }
        }
    }

    /// <summary>Notes rows that the target had or lacked against expectation.</summary>
    public void Unexpected(TableName table, ApplyCounts counts)
    {
        lock (gate)
        {
            tallies[table] = tallies.GetValueOrDefault(table, TableTally.None).Plus(TableTally.None with { Unexpected = counts });
        }
    }

    /// <summary>Adds the point of one second. One in which nothing is applied on purpose, at rest, says nothing of capacity.</summary>
    public void Sample(
        DateTimeOffset now,
        LagReading lag,
        TimeSpan notCaptured,
        TimeSpan notSpooled,
        TimeSpan notApplied,
        long arrived,
        long backlog,
        bool applies = true
    )
    {
        lock (gate)
        {
            var seconds = (now - lastAt).TotalSeconds;
            if (lastAt != default && seconds > 0)
            {
                var capacity = !idleSeen && backlog > 0 && applies;
                points.Add(
                    new MeasurePoint(
                        now,
                        lag.Behind,
                        notCaptured,
                        notSpooled,
                        notApplied,
                        Math.Max(0, arrived - lastArrived) / seconds,
                        (Applied - lastApplied) / seconds,
                        capacity
                    )
                );
            }

            lastAt = now;
            lastArrived = arrived;
            lastApplied = Applied;
            idleSeen = backlog == 0 || !applies;
        }
    }

    /// <summary>The seconds of a minute that is over, and all of it as one; nothing where it was not looked at.</summary>
    public (IReadOnlyList<MeasureSlot> Seconds, MeasureSlot? Whole) Seconds(DateTimeOffset minute)
    {
        lock (gate)
        {
            var after = minute + TimeSpan.FromMinutes(1);
            List<MeasureSlot> seconds =
            [
                .. points.Since(minute - TimeSpan.FromTicks(1)).Where(point => point.At < after).Select(point => SlotOf(point)),
            ];
            return (seconds, MeasureSlot.Sum(minute, seconds) is { } whole ? whole with { Delays = delays.Of(minute) } : null);
        }
    }

    /// <summary>Takes the seconds that an earlier process has seen, oldest first, before the first of its own.</summary>
    public void Recall(IReadOnlyList<MeasureSlot> seconds)
    {
        lock (gate)
        {
            if (points.Count > 0)
            {
                return;
            }

            foreach (var slot in seconds.TakeLast(PointsKept))
            {
                points.Add(
                    new MeasurePoint(
                        slot.Start,
                        slot.Behind,
                        slot.NotCaptured,
                        slot.NotSpooled,
                        slot.NotApplied,
                        slot.Arrived,
                        slot.Applied,
                        BacklogThroughout: false
                    )
                );
            }
        }
    }

    /// <summary>When the oldest of its points was; null while there is none.</summary>
    public DateTimeOffset? FirstPointAt
    {
        get
        {
            lock (gate)
            {
                return points.First?.At;
            }
        }
    }

    /// <summary>The points after a moment, oldest first.</summary>
    public IReadOnlyList<MeasurePoint> PointsSince(DateTimeOffset moment)
    {
        lock (gate)
        {
            return points.Since(moment);
        }
    }

    /// <summary>The latest changes, newest first.</summary>
    public IReadOnlyList<RecentChange> Recent
    {
        get
        {
            lock (gate)
            {
                return [.. recent];
            }
        }
    }

    public TableTally TallyOf(TableName table)
    {
        lock (gate)
        {
            return tallies.GetValueOrDefault(table, TableTally.None);
        }
    }

    /// <summary>The mean delay per hop of the transactions applied in the last ten seconds; null when there were none.</summary>
    public HopDelays? MeanHops(DateTimeOffset now)
    {
        lock (gate)
        {
            var live = hops.Where(entry => now - entry.At <= HopWindow).ToList();
            var count = live.Sum(entry => entry.Transactions);
            return count == 0
                ? null
                : new HopDelays(
                    live.Aggregate(TimeSpan.Zero, (sum, entry) => sum + entry.Sum.Capture) / count,
                    live.Aggregate(TimeSpan.Zero, (sum, entry) => sum + entry.Sum.Spool) / count,
                    live.Aggregate(TimeSpan.Zero, (sum, entry) => sum + entry.Sum.Treatment) / count,
                    live.Aggregate(TimeSpan.Zero, (sum, entry) => sum + entry.Sum.Apply) / count,
                    live.Aggregate(TimeSpan.Zero, (sum, entry) => sum + entry.Sum.Rest) / count
                );
        }
    }

    /// <summary>The 95th percentile of <see cref="Delay"/>, worked out at most once a second.</summary>
    public TimeSpan? P95(DateTimeOffset now)
    {
        lock (gate)
        {
            if (now - p95At >= TimeSpan.FromSeconds(1))
            {
                p95 = delays.IsEmpty ? null : Delay(0.95, now);
                p95At = now;
            }

            return p95;
        }
    }

    /// <summary>A quantile of the delay per transaction over the last five minutes; null when none was applied.</summary>
    public TimeSpan? Delay(double quantile, DateTimeOffset now) => Delays(now).Quantile(quantile);

    /// <summary>The delays per transaction over the last five minutes; the caller's own.</summary>
    public DelayHistogram Delays(DateTimeOffset now) => DelaysSince(DateTimeOffset.MinValue, now);

    /// <summary>Of these, those of a minute and after it; the caller's own.</summary>
    public DelayHistogram DelaysSince(DateTimeOffset minute, DateTimeOffset now)
    {
        lock (gate)
        {
            return delays.Since(minute, now);
        }
    }

    /// <summary>Mean rates over the last seconds.</summary>
    public (double Arriving, double Applied) Rates(int seconds = 5)
    {
        lock (gate)
        {
            var last = points.Last(seconds);
            return last.Count == 0 ? (0, 0) : (last.Average(point => point.Arriving), last.Average(point => point.Applied));
        }
    }

    /// <summary>When the backlog clears, from the last minute's seconds.</summary>
    /// <param name="backlog">Changes captured and not applied.</param>
    /// <param name="applies">Whether anything is applied now.</param>
    /// <param name="limit">The changes a second that it may apply at most, whatever was measured before; null for any number.</param>
    public ClearingForecast WhenClear(long backlog, bool applies = true, double? limit = null)
    {
        List<MeasurePoint> window;
        lock (gate)
        {
            window = points.Last(ForecastPoints);
        }

        List<double> arriving = [.. window.Select(point => point.Arriving)];
        List<double> appliedUnderBacklog =
        [
            .. window.Where(point => point.BacklogThroughout).Select(point => Math.Min(point.Applied, limit ?? double.PositiveInfinity)),
        ];
        if (appliedUnderBacklog.Count == 0 && limit is { } most)
        {
            appliedUnderBacklog.Add(most);
        }

        return applies
            ? Forecast.WhenClear(backlog, arriving, appliedUnderBacklog)
            : Forecast.AtRest(backlog, arriving, appliedUnderBacklog);
    }

    private static MeasureSlot SlotOf(MeasurePoint point) =>
        new(
            MeasureStep.Second.SlotOf(point.At),
            1,
            point.Behind,
            point.NotCaptured,
            point.NotSpooled,
            point.NotApplied,
            point.Arriving,
            point.Applied,
            new DelayHistogram()
        );
}
