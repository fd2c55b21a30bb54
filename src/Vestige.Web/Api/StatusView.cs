using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Api;

/// <summary>A crossing's status in the form that the HTTP interface promises. Durations in seconds, times in RFC 3339.</summary>
public static class StatusView
{
    public static object Of(CrossingStatus status, Func<LogPosition, string> format)
    {
        ArgumentNullException.ThrowIfNull(status);
        ArgumentNullException.ThrowIfNull(format);
        string? Position(LogPosition? position) => position is null ? null : format(position.Value);
        return new
        {
            name = status.Name,
            state = status.State.Word(),
            since = Rfc3339(status.Since),
            lag = status.Lag is not { } lag ? null : new
            {
                seconds = lag.Behind.TotalSeconds,
                bytes = status.BytesBehind,
                transactions = status.TransactionsBehind,
                current = lag.Current,
                atLeast = lag.AtLeast,
            },
            delay = status.Delay is not { } delay ? null : new
            {
                capture = delay.Capture.TotalSeconds,
                spool = delay.Spool.TotalSeconds,
                treatment = delay.Treatment.TotalSeconds,
                apply = delay.Apply.TotalSeconds,
            },
            delayP95 = status.P95?.TotalSeconds,
            rates = new { arriving = status.Arriving, applied = status.Applied },
            forecast = new
            {
                outcome = status.Clears.Outcome.ToString().ToLowerInvariant(),
                clearsInSeconds = status.Clears.In?.TotalSeconds,
                spoolFullInSeconds = status.Exhaustion.SpoolFull.In?.TotalSeconds,
                logExhaustedInSeconds = status.Exhaustion.LogLost.In?.TotalSeconds,
                exhaustedBy = status.ExhaustedBy,
                loadEndsInSeconds = status.LoadEndsIn?.TotalSeconds,
                ranges = new
                {
                    clears = Range(status.Clears.Soonest, status.Clears.Latest),
                    spoolFull = Range(status.Exhaustion.SpoolFull.Soonest, status.Exhaustion.SpoolFull.Latest),
                    logExhausted = Range(status.Exhaustion.LogLost.Soonest, status.Exhaustion.LogLost.Latest),
                    loadEnds = Range(status.LoadRange?.Soonest, status.LoadRange?.Latest),
                },
                past = new { clears = status.PastForecasts.Clearing, spoolFull = status.PastForecasts.SpoolFull, logExhausted = status.PastForecasts.LogLost, loadEnds = status.PastForecasts.Load },
            },
            positions = new
            {
                head = Position(status.Capture?.Head),
                captured = Position(status.Capture?.Captured),
                spooled = Position(status.Capture?.Spooled),
                applied = Position(status.AppliedPosition),
                provedEqual = Position(status.Proved?.Position),
            },
            cause = status.Cause,
            resting = status.Resting,
            nextRun = status.NextRun is { } next ? Rfc3339(next) : null,
            tables = status.Tables.Select(table => new
            {
                source = table.Source.ToString(),
                target = table.Target.ToString(),
                state = table.State.Word(),
                cause = table.Cause,
                load = table.RowsToLoad is null ? null : new { done = table.RowsLoaded, of = table.RowsToLoad },
                changes = new
                {
                    insert = table.Tally.Inserts,
                    update = table.Tally.Updates,
                    delete = table.Tally.Deletes,
                    truncate = table.Tally.Truncates,
                    schema = table.Tally.SchemaChanges,
                },
                unexpected = new { alreadyThere = table.Tally.Unexpected.AlreadyThere, missing = table.Tally.Unexpected.Missing },
                lagSeconds = table.Behind?.TotalSeconds,
                quarantined = table.Quarantined,
                provedEqual = table.Verdict?.Proved is not { } proof ? null : new { position = format(proof.Position), at = Rfc3339(proof.At) },
                differences = table.Verdict?.Differences ?? 0,
            }),
            fault = status.Fault is not { } fault ? null : new { what = fault.What, mend = fault.Mend, since = Rfc3339(fault.Since), table = fault.Table, key = fault.Key },
            waiting = status.Waiting is not { } waiting ? null : new { what = waiting.What, mend = waiting.Mend, since = Rfc3339(waiting.Since) },
        };
    }

    /// <summary>Seconds at the better and at the worse quartiles; null where it does not happen at these.</summary>
    private static object Range(TimeSpan? soonest, TimeSpan? latest) => new { soonestSeconds = soonest?.TotalSeconds, latestSeconds = latest?.TotalSeconds };

    public static string Rfc3339(DateTimeOffset at) => at.UtcDateTime.ToString("yyyy-MM-dd'T'HH:mm:ss.ffffff'Z'");
}
