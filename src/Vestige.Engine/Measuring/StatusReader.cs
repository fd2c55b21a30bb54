using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Capturing;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Loading;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Measuring;

/// <summary>Makes the picture of a crossing from what its worker, its capture and its meter say.</summary>
internal sealed class StatusReader(IConnections connections, EventLog events, TimeProvider clock)
{
    private static readonly TimeSpan FallsBehind = TimeSpan.FromSeconds(10);
    private static readonly TimeSpan CaughtUp = TimeSpan.FromSeconds(2);

    /// <summary>The head is sampled every second; one this old proves nothing, whatever stands on the connection.</summary>
    private static readonly TimeSpan HeadAge = TimeSpan.FromSeconds(5);

    /// <summary>How a crossing stands now. Changes nothing.</summary>
    public CrossingStatus Read(CrossingEntry entry, Capture? capture)
    {
        var look = LookAt(entry, capture);
        var (load, state, now) = (look.View?.Load, look.State, look.Now);
        var quarantined = entry.Quarantine.UpTo(entry.Progress.Position);
        var waiting = look.Lag is { Current: true } ? 0 : look.Backlog.Changes;
        var clears = entry.Meter.WhenClear(waiting, look.AtWork, entry.Stored.Definition.ChangesPerSecond);
        var status = new CrossingStatus
        {
            Definition = entry.Stored.Definition,
            At = now,
            State = state,
            Since = entry.StateSince,
            By = entry.Stored.By,
            Fault = look.View?.Fault ?? (entry.Trouble is { IsLasting: true } ? entry.Trouble : null),
            Waiting = look.Waiting,
            Lag = look.Lag,
            AppliedPosition = look.Applied,
            Clears = clears,
            AtWork = look.AtWork,
            Exhaustion = ExhaustionOf(look, clears),
            LoadRange = LoadRange(load, entry.Meter),
            PastForecasts = entry.Meter.PastForecasts,
            Capture = look.Log,
            KeptAfter =
                entry.Stored.Desired == DesiredState.KeepLog && capture is not null
                    ? LogRetention.AfterOf(entry.Stored.Definition, capture.Spool)
                    : null,
            Until = entry.Stored.Until,
            Resting = look.View is { Ended: false } ? look.View.Resting : null,
            NextRun = state == CrossingState.Stopped ? entry.NextRun : null,
            Cause = DelayCause.Of(entry.Stored.Definition, look.View, look.Log, entry.Meter, entry.Diagnosis, now),
            Tables = Tables(look, quarantined),
            KeptSince = quarantined.Select(change => (DateTimeOffset?)change.CommittedAt).Min(),
        };
        return Measured(status, look);
    }

    private CrossingStatus Measured(CrossingStatus status, Look look)
    {
        var (entry, now, log) = (look.Entry, look.Now, look.Log);
        var (arriving, applied) = entry.Meter.Rates();
        var captured = log is null ? TimeSpan.Zero : Uncaptured(now, log, look.Applied, look.Lag);
        var spooled = log is null ? TimeSpan.Zero : Max(captured, LagRule.Age(now, log.FirstUnspooled));
        var (ends, rate) = LoadForecast(now, look.View?.Load);
        return status with
        {
            CapturedAge = captured,
            SpooledAge = spooled,
            AppliedAge = Max(spooled, look.Lag?.Behind ?? TimeSpan.Zero),
            Delay = entry.Meter.MeanHops(now),
            P95 = entry.Meter.P95(now),
            Arriving = arriving,
            Applied = applied,
            Backlog = look.Backlog.Changes,
            TransactionsBehind = look.Backlog.Transactions,
            BytesBehind = BytesBehind(entry, look.Capture?.Spool, log, look.Applied),
            LoadEndsIn = ends,
            LoadRate = rate,
            LoadSlowed = look.View?.Load?.Slowed ?? TimeSpan.Zero,
        };
    }

    private Look LookAt(CrossingEntry entry, Capture? capture)
    {
        var (now, view, applied) = (clock.GetUtcNow(), entry.Worker?.View, entry.Progress.Position);
        var log = entry.Stored.NeedsLog ? capture?.Status : null;
        var lag = applied is null || log is null ? (LagReading?)null : LagOf(now, entry, view, log, applied.Value);
        return new Look(entry, now, StateOf(entry, view, lag))
        {
            Capture = capture,
            View = view,
            Log = log,
            Applied = applied,
            Lag = lag,
            Backlog = BacklogOf(view?.Place ?? entry.Place, capture, applied),
        };
    }

    /// <summary>What is in hand for a moment while it follows fills nothing.</summary>
    private static LogExhaustion ExhaustionOf(Look look, ClearingForecast clears)
    {
        if (look.Capture is not { } capture || look.Log is not { } log)
        {
            return LogExhaustion.None;
        }

        var isInHand = look.State == CrossingState.Following && look.AtWork && look.Lag?.Behind < CaughtUp;
        var left = isInHand ? clears with { Left = RateRange.Zero } : clears;
        return ExhaustionReader.Read(look.Entry.Name, left, capture.Spool, log, look.Now);
    }

    private static LagReading LagOf(DateTimeOffset now, CrossingEntry entry, WorkerView? view, CaptureStatus log, LogPosition applied)
    {
        var oldest = view is { Ended: false } ? view.OldestInHand : null;
        if (oldest is null && applied < log.Spooled)
        {
            oldest = entry.Place is { } spooled && spooled.Position == applied ? spooled.NextCommittedAt : null;
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

    private static CrossingState StateOf(CrossingEntry entry, WorkerView? view, LagReading? lag) =>
        view switch
        {
            _ when entry.Checking => CrossingState.Checking,
            null or { Ended: true } => RestOf(entry, view),
            { Load: not null, Following: false } => CrossingState.Loading,
            { Applied: null } => CrossingState.Checking,
            _ => KeepsUp(entry, view, lag) ? CrossingState.Following : CrossingState.CatchingUp,
        };

    /// <summary>It falls behind later than it has caught up, so that the state does not flicker.</summary>
    private static bool KeepsUp(CrossingEntry entry, WorkerView view, LagReading? lag) =>
        view.Following
        && lag is { } reading
        && (entry.KeepsUp ? reading.Behind < FallsBehind : reading.Current || reading.Behind < CaughtUp);

    /// <summary>The state of a crossing for which nobody works.</summary>
    private static CrossingState RestOf(CrossingEntry entry, WorkerView? view) =>
        view?.Fault is not null
            ? CrossingState.Faulted
            : entry.Stored.Desired switch
            {
                DesiredState.Pause => CrossingState.Paused,
                DesiredState.Stop => CrossingState.Stopped,
                DesiredState.Draft or DesiredState.KeepLog => CrossingState.Draft,
                DesiredState.Finish => CrossingState.Finished,
                DesiredState.Run when entry.NextRun is not null && entry.Trouble is null => CrossingState.Stopped,
                _ => entry.Trouble is { IsLasting: true } ? CrossingState.Faulted : CrossingState.Checking,
            };

    private static (long Changes, long Transactions) BacklogOf(SpooledPosition? spooled, Capture? capture, LogPosition? applied)
    {
        if (capture is null || applied is null || spooled is null || applied >= capture.Spool.Last)
        {
            return (0, 0);
        }

        return (Math.Max(0, capture.Spool.Changes - spooled.Changes), Math.Max(0, capture.Spool.Transactions - spooled.Transactions));
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

        // How long keys and indexes take once all rows are there is not known.
        var rate = done / seconds;
        return (done < all ? TimeSpan.FromSeconds((all - done) / rate) : null, rate);
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

    /// <summary>Null where the target's connection cannot be opened.</summary>
    private TargetSystem? TargetOf(TableOptions ways)
    {
        try
        {
            return connections.Target(ways.Definition.Target);
        }
        catch (Exception exception) when (exception is PortException or RequestRefusedException or IOException)
        {
            return null;
        }
    }

    private List<TableStatus> Tables(Look look, IReadOnlyList<WaitingChange> quarantined)
    {
        var (entry, state) = (look.Entry, look.State);
        var (progress, target) = (entry.Progress, TargetOf(entry.Ways));
        var waiting = quarantined.CountBy(change => change.Table).ToDictionary();
        var loads = look.View?.Load?.Tables.ToDictionary(table => table.Table.Name) ?? [];
        var listed = WithLoads(entry.Listing.Of(progress.Tables, entry.Ways, target), loads.Keys, entry.Ways, target);
        var held = HeldOf(entry, listed, look.Now);
        var all = new List<TableStatus>(listed.Count);
        foreach (var (name, table, into) in listed)
        {
            // Most crossings have no such tables at the moment, and some have thousands of others.
            var loading = loads.Count == 0 ? null : loads.GetValueOrDefault(name);
            var waits = waiting.Count == 0 ? 0 : waiting.GetValueOrDefault(name);
            all.Add(
                new TableStatus(
                    name,
                    into,
                    TableStateOf(table, loading, state, waits > 0),
                    table?.HeldCause ?? QuarantineOf(waits),
                    loading?.Rows ?? 0,
                    loading?.EstimatedRows,
                    waits,
                    loading is null && table is { Loaded: true, Held: false } ? look.Lag?.Behind : null,
                    entry.Verdicts.Of(name),
                    entry.Meter.TallyOf(name)
                )
                {
                    HeldAt = table is { Held: true } ? table.Position : null,
                    MayContinue = HeldTables.MayContinue(table, progress, look.Capture?.Spool),
                    HeldSince = table is { Held: true } ? held[name] : null,
                }
            );
        }

        return all;
    }

    private static string? QuarantineOf(int changes) =>
        changes > 0
            ? $"{Figures.Of(changes, "change")} of it {(changes == 1 ? "is" : "are")} in quarantine; its other rows are replicated."
            : null;

    /// <summary>Before the target has said what it holds, nothing is known to be held or not.</summary>
    private IReadOnlyDictionary<TableName, DateTimeOffset?> HeldOf(
        CrossingEntry entry,
        IReadOnlyList<ListedTable> listed,
        DateTimeOffset now
    ) =>
        listed.Count == 0
            ? new Dictionary<TableName, DateTimeOffset?>()
            : entry.Held.Look(
                listed.Where(table => table.Progress is { Held: true }).Select(table => table.Name),
                now,
                reported => HeldAt(entry.Name, reported)
            );

    /// <summary>The tables listed and those that are loaded, each once, by name.</summary>
    private static IReadOnlyList<ListedTable> WithLoads(
        IReadOnlyList<ListedTable> listed,
        ICollection<TableName> loads,
        TableOptions ways,
        TargetSystem? target
    )
    {
        if (loads.Count == 0)
        {
            return listed;
        }

        var names = listed.Select(table => table.Name).ToHashSet();
        List<ListedTable> begun =
        [
            .. loads
                .Where(name => !names.Contains(name))
                .Select(name => new ListedTable(name, null, TableListing.IntoOf(name, ways, target))),
        ];
        return begun.Count == 0 ? listed : [.. listed.Concat(begun).OrderBy(table => table.Name)];
    }

    /// <summary>When the latest events say that a table was held; null where none of them does.</summary>
    private DateTimeOffset? HeldAt(string crossing, TableName table) =>
        events
            .Latest.FirstOrDefault(happened =>
                happened.Crossing == crossing && happened.Text.StartsWith(HeldTimes.TextOf(table), StringComparison.Ordinal)
            )
            ?.At;

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
            { Held: true } => TableState.Held,
            null or { Loaded: false } => TableState.Waiting,
            _ when waits => TableState.Held,
            { Reached: not null } when state is CrossingState.Following => TableState.CatchingUp,
            _ => state switch
            {
                CrossingState.Following => TableState.Following,
                CrossingState.CatchingUp or CrossingState.Loading => TableState.CatchingUp,
                // Nothing is applied to it, whatever there is.
                _ => TableState.Waiting,
            },
        };
    }

    private static TimeSpan Max(TimeSpan left, TimeSpan right) => left > right ? left : right;

    /// <summary>What was seen of a crossing at one moment.</summary>
    private sealed record Look(CrossingEntry Entry, DateTimeOffset Now, CrossingState State)
    {
        public Capture? Capture { get; init; }

        public WorkerView? View { get; init; }

        public CaptureStatus? Log { get; init; }

        public LogPosition? Applied { get; init; }

        public LagReading? Lag { get; init; }

        public (long Changes, long Transactions) Backlog { get; init; }

        public CrossingFault? Waiting => View?.Waiting ?? (Entry.Trouble is { IsLasting: false } ? Entry.Trouble : null);

        public bool AtWork =>
            State is CrossingState.CatchingUp or CrossingState.Following && Waiting is null && !Entry.Stored.Definition.RestsAt(Now);
    }
}
