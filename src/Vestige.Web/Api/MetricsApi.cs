using Prometheus;
using Vestige.Core.Crossings;
using Vestige.Core.Headlines;
using Vestige.Engine.Capturing;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Api;

/// <summary>
/// Measures for whoever collects them, as OpenMetrics text (version 1.0.0). Series are per crossing and per source, and per table
/// for the first few thousand tables, so that their number stays bounded. Made again at each request: what is gone is not told.
/// </summary>
public static class MetricsApi
{
    private const int TablesAtMost = 5000;
    private const string Type = "application/openmetrics-text; version=1.0.0; charset=utf-8";

    public static void Map(IEndpointRouteBuilder routes) => routes.MapGet("/metrics", ServeAsync).ExcludeFromDescription();

    private static async Task ServeAsync(HttpContext context, CrossingEngine engine, TimeProvider clock)
    {
        var registry = Metrics.NewCustomRegistry();
        var factory = Metrics.WithCustomRegistry(registry);
        var statuses = engine.Statuses;
        Crossings(factory, statuses, engine, clock.GetUtcNow());
        Tables(factory, statuses);
        Sources(factory, engine.CaptureStatuses);
        factory
            .CreateCounter(
                "vestige_watching_seconds_total",
                "Time spent in measures, states and alerts of all crossings since the process started."
            )
            .IncTo(engine.SpentWatching.TotalSeconds);
        factory
            .CreateCounter("vestige_measuring_seconds_total", "Of that, in keeping measures alone.")
            .IncTo(engine.SpentMeasuring.TotalSeconds);
        context.Response.ContentType = Type;
        await registry.CollectAndExportAsTextAsync(context.Response.Body, ExpositionFormat.OpenMetricsText, context.RequestAborted);
    }

    private static void Crossings(MetricFactory factory, IReadOnlyList<CrossingStatus> statuses, CrossingEngine engine, DateTimeOffset now)
    {
        Gauge Of(string name, string help) => factory.CreateGauge(name, help, "crossing");
        var (lag, current, backlog, bytes) = (
            Of(
                "vestige_lag_seconds",
                "Age of the oldest captured transaction that is not applied, quarantined changes included; 0 when current."
            ),
            Of("vestige_current", "1 when nothing captured waits and the reader has passed the source's head."),
            Of("vestige_backlog_changes", "Changes captured and not applied."),
            Of("vestige_behind_bytes", "Bytes of log between the source's head and the applied position.")
        );
        var (p95, clears, held) = (
            Of("vestige_delay_p95_seconds", "95th percentile of the delay per transaction over five minutes."),
            Of("vestige_clears_seconds", "When the backlog is forecast to clear; not told when it is not."),
            Of("vestige_held_tables", "Tables that are held.")
        );
        var state = factory.CreateGauge("vestige_state", "1 for the state that the crossing has.", "crossing", "state");
        var headline = factory.CreateGauge(
            "vestige_headline",
            "1 for the headline of the crossing: the worst that holds of it.",
            "crossing",
            "word"
        );
        var applied = factory.CreateCounter("vestige_applied_changes_total", "Changes applied since the process started.", "crossing");
        var (differing, proved) = (
            Of("vestige_differing_rows", "Rows that differed when their tables were compared last."),
            Of(
                "vestige_proved_age_seconds",
                "Age of the oldest proof that a table is equal on both sides; not told while one of them has none."
            )
        );
        var rests = Of(
            "vestige_rests_as_planned",
            "1 between two runs of a schedule and in a window of rest, when it is behind on purpose."
        );
        var (full, lost) = (
            Of("vestige_spool_full_seconds", "When the spool of its source is forecast to be full; not told when it is not."),
            Of(
                "vestige_log_lost_seconds",
                "When the log of its source is forecast to be lost, the spool being full; not told when it is not."
            )
        );
        foreach (var status in statuses)
        {
            Set(full, status.Name, status.Exhaustion.SpoolFull.In?.TotalSeconds);
            Set(lost, status.Name, status.Exhaustion.LogLost.In?.TotalSeconds);
            rests.WithLabels(status.Name).Set(status.RestsAsPlanned(now) ? 1 : 0);
            foreach (var one in Enum.GetValues<CrossingState>())
            {
                state.WithLabels(status.Name, one.Word()).Set(one == status.State ? 1 : 0);
            }

            var worst = status.Headline.Word;
            foreach (var word in Enum.GetValues<HeadlineWord>())
            {
                headline.WithLabels(status.Name, word.Text()).Set(word == worst ? 1 : 0);
            }

            applied.WithLabels(status.Name).IncTo(engine.Meter(status.Name)?.Applied ?? 0);
            held.WithLabels(status.Name).Set(status.Tables.Count(table => table.State == TableState.Held));
            backlog.WithLabels(status.Name).Set(status.Backlog);
            differing.WithLabels(status.Name).Set(status.Differences);
            Set(proved, status.Name, status.Proved is { } proof ? Math.Max(0, (now - proof.At).TotalSeconds) : null);
            Set(lag, status.Name, status.Behind?.TotalSeconds);
            Set(
                current,
                status.Name,
                status.Lag is { } reading
                    ? reading.Current
                        ? 1
                        : 0
                    : null
            );
            Set(bytes, status.Name, status.BytesBehind);
            Set(p95, status.Name, status.P95?.TotalSeconds);
            Set(clears, status.Name, status.Clears.In?.TotalSeconds);
        }
    }

    private static void Tables(MetricFactory factory, IReadOnlyList<CrossingStatus> statuses)
    {
        var changes = factory.CreateCounter(
            "vestige_table_changes_total",
            "Changes applied to a table since the process started, by kind.",
            "crossing",
            "table",
            "kind"
        );
        var unexpected = factory.CreateCounter(
            "vestige_table_unexpected_rows_total",
            "Rows that the target had or lacked against expectation.",
            "crossing",
            "table"
        );
        foreach (
            var (crossing, table) in statuses
                .SelectMany(status => status.Tables.Select(table => (status.Name, Table: table)))
                .Take(TablesAtMost)
        )
        {
            var (name, tally) = (table.Source.ToString(), table.Tally);
            foreach (
                var (kind, count) in new[]
                {
                    ("insert", tally.Inserts),
                    ("update", tally.Updates),
                    ("delete", tally.Deletes),
                    ("truncate", tally.Truncates),
                    ("schema", tally.SchemaChanges),
                }
            )
            {
                changes.WithLabels(crossing, name, kind).IncTo(count);
            }

            unexpected.WithLabels(crossing, name).IncTo(tally.Unexpected.Total);
        }
    }

    private static void Sources(MetricFactory factory, IReadOnlyList<CaptureStatus> captures)
    {
        Gauge Of(string name, string help) => factory.CreateGauge(name, help, "source");
        var (running, spool, budget) = (
            Of("vestige_capture_running", "1 while the source's log is being read."),
            Of("vestige_spool_bytes", "Size of the spool."),
            Of("vestige_spool_budget_bytes", "The most that the spool may hold.")
        );
        var (log, limit, lost) = (
            Of("vestige_source_log_bytes", "Log that the source keeps for us."),
            Of("vestige_source_log_limit_bytes", "The most that it keeps before it is lost; not told where it never drops."),
            Of("vestige_place_lost", "1 when the log no longer reaches back to where the spool ends.")
        );
        foreach (var capture in captures)
        {
            running.WithLabels(capture.Connection).Set(capture.Running ? 1 : 0);
            spool.WithLabels(capture.Connection).Set(capture.SpoolBytes);
            budget.WithLabels(capture.Connection).Set(capture.SpoolBudget);
            log.WithLabels(capture.Connection).Set(capture.LogBytes);
            lost.WithLabels(capture.Connection).Set(capture.LostPlace ? 1 : 0);
            Set(limit, capture.Connection, capture.LogLimit);
        }
    }

    /// <summary>What is not known is not told, rather than told as something.</summary>
    private static void Set(Gauge gauge, string name, double? value)
    {
        if (value is { } known)
        {
            gauge.WithLabels(name).Set(known);
        }
    }
}
