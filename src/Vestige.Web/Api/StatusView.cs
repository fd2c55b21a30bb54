using Vestige.Core.Crossings;
using Vestige.Core.Headlines;
using Vestige.Core.Positions;
using Vestige.Engine.Measuring;
using Vestige.Web.Api.Documents;

namespace Vestige.Web.Api;

/// <summary>A crossing's status in the form that the HTTP interface promises. Durations in seconds, times in RFC 3339.</summary>
public static class StatusView
{
    public static StatusDocument Of(CrossingStatus status, Func<LogPosition, string> format)
    {
        ArgumentNullException.ThrowIfNull(status);
        ArgumentNullException.ThrowIfNull(format);
        string? Position(LogPosition? position) => position is null ? null : format(position.Value);
        return new StatusDocument(
            Name: status.Name,
            State: status.State.Word(),
            Since: Rfc3339(status.Since),
            Lag: status.Lag is not { } lag
                ? null
                : new LagDocument(
                    Seconds: (status.Behind ?? lag.Behind).TotalSeconds,
                    Bytes: status.BytesBehind,
                    Transactions: status.TransactionsBehind,
                    Current: lag.Current && status.Behind <= lag.Behind,
                    AtLeast: lag.AtLeast
                ),
            Delay: status.Delay is not { } delay
                ? null
                : new StageDelaysDocument(
                    Capture: delay.Capture.TotalSeconds,
                    Spool: delay.Spool.TotalSeconds,
                    Treatment: delay.Treatment.TotalSeconds,
                    Apply: delay.Apply.TotalSeconds,
                    Rest: delay.Rest.TotalSeconds
                ),
            DelayP95: status.P95?.TotalSeconds,
            Rates: new RatesDocument(Arriving: status.Arriving, Applied: status.Applied),
            Forecast: new ForecastDocument(
                Outcome: status.Clears.Outcome.ToString().ToLowerInvariant(),
                ClearsInSeconds: status.Clears.In?.TotalSeconds,
                SpoolFullInSeconds: status.Exhaustion.SpoolFull.In?.TotalSeconds,
                LogExhaustedInSeconds: status.Exhaustion.LogLost.In?.TotalSeconds,
                ExhaustedBy: status.ExhaustedBy,
                LoadEndsInSeconds: status.LoadEndsIn?.TotalSeconds,
                Ranges: new ForecastRangesDocument(
                    Clears: Range(status.Clears.Soonest, status.Clears.Latest),
                    SpoolFull: Range(status.Exhaustion.SpoolFull.Soonest, status.Exhaustion.SpoolFull.Latest),
                    LogExhausted: Range(status.Exhaustion.LogLost.Soonest, status.Exhaustion.LogLost.Latest),
                    LoadEnds: Range(status.LoadRange?.Soonest, status.LoadRange?.Latest)
                ),
                Past: new PastForecastsDocument(
                    Clears: status.PastForecasts.Clearing,
                    SpoolFull: status.PastForecasts.SpoolFull,
                    LogExhausted: status.PastForecasts.LogLost,
                    LoadEnds: status.PastForecasts.Load
                )
            ),
            Positions: new PositionsDocument(
                Head: Position(status.Capture?.Head),
                Captured: Position(status.Capture?.Captured),
                Spooled: Position(status.Capture?.Spooled),
                Applied: Position(status.AppliedPosition),
                ProvedEqual: Position(status.Proved?.Position)
            ),
            Headline: HeadlineOf(status.Headline.Worst),
            Reasons: [.. status.Headline.Reasons.Select(ReasonOf)],
            Cause: status.Cause,
            Resting: status.Resting,
            NextRun: status.NextRun is { } next ? Rfc3339(next) : null,
            Tables:
            [
                .. status.Tables.Select(table => new TableStatusDocument(
                    Source: table.Source.ToString(),
                    Target: table.Target.ToString(),
                    State: table.State.Word(),
                    Cause: table.Cause,
                    MayContinue: table.MayContinue,
                    Load: table.RowsToLoad is not { } all ? null : new LoadDocument(Done: table.RowsLoaded, Of: all),
                    Changes: new ChangesDocument(
                        Insert: table.Tally.Inserts,
                        Update: table.Tally.Updates,
                        Delete: table.Tally.Deletes,
                        Truncate: table.Tally.Truncates,
                        Schema: table.Tally.SchemaChanges
                    ),
                    Unexpected: new UnexpectedDocument(
                        AlreadyThere: table.Tally.Unexpected.AlreadyThere,
                        Missing: table.Tally.Unexpected.Missing
                    ),
                    LagSeconds: table.Behind?.TotalSeconds,
                    Quarantined: table.Quarantined,
                    ProvedEqual: table.Verdict?.Proved is not { } proof
                        ? null
                        : new ProvedEqualDocument(Position: format(proof.Position), At: Rfc3339(proof.At)),
                    Differences: table.Verdict?.Differences ?? 0
                )),
            ],
            Fault: status.Fault is not { } fault
                ? null
                : new FaultDocument(
                    What: fault.What,
                    Remedy: fault.Remedy,
                    Since: Rfc3339(fault.Since),
                    Table: fault.Table,
                    Key: fault.Key
                ),
            Waiting: status.Waiting is not { } waiting
                ? null
                : new WaitingDocument(What: waiting.What, Remedy: waiting.Remedy, Since: Rfc3339(waiting.Since))
        );
    }

    public static HeadlineDocument HeadlineOf(Reason reason)
    {
        ArgumentNullException.ThrowIfNull(reason);
        return new(reason.Word.Text(), SinceOf(reason), reason.Sentence, reason.Action?.Text());
    }

    private static ReasonDocument ReasonOf(Reason reason) =>
        new(reason.Word.Text(), SinceOf(reason), reason.Tables, reason.Sentence, reason.Action?.Text());

    private static string? SinceOf(Reason reason) => reason.Since is { } since ? Rfc3339(since) : null;

    /// <summary>Seconds at the better and at the worse quartiles; null where it does not happen at these.</summary>
    private static RangeDocument Range(TimeSpan? soonest, TimeSpan? latest) =>
        new RangeDocument(SoonestSeconds: soonest?.TotalSeconds, LatestSeconds: latest?.TotalSeconds);

    public static string Rfc3339(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss.ffffff'Z'");
}
