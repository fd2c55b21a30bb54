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

    private List<TableStatus> Tables(Look look, IReadOnlyList<WaitingChange> quarantined)
    {
        var (entry, state, load, lag) = (look.Entry, look.State, look.View?.Load, look.Lag);
        var (progress, ways) = (entry.Progress, entry.Ways);
        var into = IntoOf(ways);
        var known = progress.Tables.Where(table => ways.Takes(table.Table)).ToList();
        var waiting = quarantined.CountBy(change => change.Table).ToDictionary();
        var loads = load?.Tables.ToDictionary(table => table.Table.Name) ?? [];
        return
        [
            .. Listed(known, loads.Keys)
                .Select(listed =>
                {
                    var (name, table) = listed;
                    var loading = loads.GetValueOrDefault(name);
                    return new TableStatus(
                        name,
                        into(name),
                        TableStateOf(table, loading, state, waiting.ContainsKey(name)),
                        table?.HeldCause
                            ?? (
                                waiting.TryGetValue(name, out var changes)
                                    ? $"{Figures.Of(changes, "change")} of it {(changes == 1 ? "is" : "are")} in quarantine; "
                                        + "its other rows are replicated."
                                    : null
                            ),
                        loading?.Rows ?? 0,
                        loading?.EstimatedRows,
                        waiting.GetValueOrDefault(name),
                        loading is null && table is { Loaded: true, Held: false } ? lag?.Behind : null,
                        entry.Verdicts.Of(name),
                        entry.Meter.TallyOf(name)
                    )
                    {
                        HeldAt = table is { Held: true } ? table.Position : null,
                        MayContinue = HeldTables.MayContinue(table, progress, look.Capture?.Spool),
                        HeldSince = entry.Held.Of(name, table?.Held == true, look.Now, reported => HeldAt(entry.Name, reported)),
                    };
                }),
        ];
    }

    /// <summary>Known tables and those that are loaded, each once, by name. What is in order already is not sorted again.</summary>
    private static IEnumerable<(TableName Name, TableProgress? Table)> Listed(List<TableProgress> known, ICollection<TableName> loads)
    {
        var all = known.Select(table => (Name: table.Table, Table: (TableProgress?)table));
        if (loads.Count > 0)
        {
            var names = known.Select(table => table.Table).ToHashSet();
            all = all.Concat(loads.Where(name => !names.Contains(name)).Select(name => (name, (TableProgress?)null)));
        }
        else if (known.Zip(known.Skip(1)).All(pair => pair.First.Table.CompareTo(pair.Second.Table) < 0))
        {
            return all;
        }

        return all.OrderBy(table => table.Name);
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
