using Vestige.Core.Alerts;
using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Core.Headlines;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Measuring;

/// <summary>Collects what decides the headline of a crossing from its status. Changes nothing.</summary>
public static class HeadlineReader
{
    /// <summary>What is known of a crossing.</summary>
    public static CrossingFacts FactsOf(CrossingStatus status)
    {
        ArgumentNullException.ThrowIfNull(status);
        return new CrossingFacts
        {
            State = status.State,
            Since = status.Since,
            Now = status.At,
            By = status.By,
            Tables = status.Tables.Count,
            Fault = status.Fault is { PlaceLost: false } fault ? Of(fault) : null,
            PlaceLost = LostOf(status),
            SourceWritesFail = OfTables(status, FailsAtSource, table => table.HeldSince),
            LogLostIn = LogLostIn(status),
            Waiting = WaitingOf(status),
            NextAttempt = status.Waiting is { } waiting ? waiting.NextAttempt : status.Capture?.NextAttempt,
            StorageFull = FullOf(status),
            Held = OfTables(
                status,
                table => table is { State: TableState.Held, Quarantined: 0 } && !FailsAtSource(table),
                table => table.HeldSince
            ),
            Quarantined = OfTables(status, table => table.Quarantined > 0, _ => status.KeptSince, table => table.Quarantined),
            Differing = OfTables(
                status,
                table => table.Verdict is { Differences: > 0 },
                table => table.Verdict!.FoundAt,
                table => table.Verdict!.Differences
            ),
            LimitedBy = status.Resting,
            LosesGround = status.Clears.Outcome == Clearing.Never,
            Lag = status.Lag,
            Backlog = status.Backlog,
            LoadingBeside =
                status.State is CrossingState.Following or CrossingState.CatchingUp
                    ? status.Tables.Count(table => table.RowsToLoad is not null)
                    : 0,
            LoadSlowed = status.LoadSlowed,
            Loaded = status.LoadRate is null ? null : status.LoadShare,
            LoadEndsIn = status.LoadEndsIn,
            NextRun = status.NextRun,
            KeepsLog = status.Capture is not null,
        };
    }

    private static Trouble? LostOf(CrossingStatus status) =>
        status switch
        {
            { Fault: { PlaceLost: true } fault } => Of(fault),
            { Capture: { LostPlace: true } capture } => new Trouble(
                $"The log of {capture.Connection} no longer reaches back to where the spool ends. "
                    + "The remaining spooled changes can still be applied; later changes are lost.",
                "Reload the tables or remove the crossing.",
                capture.WaitingSince
            ),
            _ => null,
        };

    /// <summary>What cannot be reached: the target by its worker, or the source by the reading of its log.</summary>
    private static Trouble? WaitingOf(CrossingStatus status) =>
        status switch
        {
            { Waiting: { } waiting } => Of(waiting),
            { Capture: { Running: false, LostPlace: false, Waiting: { } why } capture } when IsActive(status) && FullOf(status) is null =>
                new Trouble(why, Since: capture.WaitingSince),
            _ => null,
        };

    private static Trouble? FullOf(CrossingStatus status) =>
        status.Capture is { SpoolBudget: > 0 } capture && capture.SpoolBytes >= capture.SpoolBudget
            ? new Trouble(
                $"The spool of {capture.Connection} is full, so its log is not read on.",
                "Let the slowest crossing apply its backlog, give the spool more room, or remove a crossing."
            )
            : null;

    /// <summary>
    /// Told only so long ahead that it matters, since whatever rests loses its log at some time. Where a load ends before, what comes
    /// after it is not known yet.
    /// </summary>
    private static TimeSpan? LogLostIn(CrossingStatus status) =>
        status is { Exhaustion.LogLost.In: { } lost, ExhaustedBy: null, Capture.LostPlace: false }
        && status.State is not (CrossingState.Draft or CrossingState.Finished)
        && !(status.LoadEndsIn < lost)
        && lost.TotalSeconds <= AlertRule.LossAheadSeconds
            ? lost
            : null;

    private static bool IsActive(CrossingStatus status) =>
        status.State is CrossingState.Following or CrossingState.CatchingUp or CrossingState.Loading or CrossingState.Checking;

    private static bool FailsAtSource(TableStatus table) =>
        table.State == TableState.Held && table.Cause?.Contains(SchemaNotice.WritesFail, StringComparison.Ordinal) == true;

    private static TroubledTables? OfTables(
        CrossingStatus status,
        Func<TableStatus, bool> holds,
        Func<TableStatus, DateTimeOffset?> since,
        Func<TableStatus, long>? count = null
    )
    {
        var tables = status.Tables.Where(holds).ToList();
        return tables.Count == 0
            ? null
            : new TroubledTables(
                [.. tables.Select(table => table.Source.ToString())],
                tables.Min(since),
                count is null ? 0 : tables.Sum(count)
            );
    }

    private static Trouble Of(CrossingFault fault) => new(fault.What, fault.Remedy, fault.Since);
}
