using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Core.Headlines;
using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Engine.Capturing;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Measuring;

/// <summary>A crossing at one moment, all that pages and the API show of it.</summary>
public sealed record CrossingStatus
{
    private Derived? derived;

    /// <summary>What a person said.</summary>
    public required CrossingDefinition Definition { get; init; }

    /// <summary>The moment that this is a picture of.</summary>
    public required DateTimeOffset At { get; init; }

    /// <summary>The one state it has.</summary>
    public required CrossingState State { get; init; }

    /// <summary>Since when.</summary>
    public required DateTimeOffset Since { get; init; }

    /// <summary>Who last steered it.</summary>
    public required string By { get; init; }

    /// <summary>Why it is faulted; null when it is not.</summary>
    public CrossingFault? Fault { get; init; }

    /// <summary>What it waits out by itself; null when nothing.</summary>
    public CrossingFault? Waiting { get; init; }

    /// <summary>How far behind; null before there is a position.</summary>
    public LagReading? Lag { get; init; }

    /// <summary>When the oldest change in quarantine was committed, by the source's clock; null when there is none.</summary>
    public DateTimeOffset? KeptSince { get; init; }

    /// <summary>Age of the captured point of the wake.</summary>
    public TimeSpan CapturedAge { get; init; }

    /// <summary>Age of the spooled point.</summary>
    public TimeSpan SpooledAge { get; init; }

    /// <summary>Age of the applied point.</summary>
    public TimeSpan AppliedAge { get; init; }

    /// <summary>Mean delay per hop, lately; null when nothing was applied lately.</summary>
    public HopDelays? Delay { get; init; }

    /// <summary>95th percentile of the delay per transaction over five minutes; null when none was applied.</summary>
    public TimeSpan? P95 { get; init; }

    /// <summary>Changes a second becoming durable.</summary>
    public double Arriving { get; init; }

    /// <summary>Changes a second applied.</summary>
    public double Applied { get; init; }

    /// <summary>Changes captured and not applied.</summary>
    public long Backlog { get; init; }

    /// <summary>Transactions captured and not applied.</summary>
    public long TransactionsBehind { get; init; }

    /// <summary>Bytes of log between the head and the applied position; null before there is a position.</summary>
    public long? BytesBehind { get; init; }

    /// <summary>Null before there is a place.</summary>
    public LogPosition? AppliedPosition { get; init; }

    /// <summary>When the backlog clears.</summary>
    public required ClearingForecast Clears { get; init; }

    /// <summary>Whether it applies what arrives: it runs, rests in no window and waits out nothing.</summary>
    public bool AtWork { get; init; }

    /// <summary>When the spool of its source is full and the source's log is lost then.</summary>
    public required LogExhaustion Exhaustion { get; init; }

    /// <summary>The other crossing of the same source that brings this about sooner; null when it is this one.</summary>
    public string? ExhaustedBy { get; init; }

    /// <summary>When the load at hand ends; null when none is, or its rate is not known yet.</summary>
    public TimeSpan? LoadEndsIn { get; init; }

    /// <summary>When it ends at the better and at the worse quartile of its rate lately; null when that is not known yet.</summary>
    public (TimeSpan Soonest, TimeSpan? Latest)? LoadRange { get; init; }

    /// <summary>Rows a second of the load at hand; null when none is, and before its first row is read.</summary>
    public double? LoadRate { get; init; }

    /// <summary>For how long the load at hand has waited for tables that follow.</summary>
    public TimeSpan LoadSlowed { get; init; }

    /// <summary>How good its forecasts were.</summary>
    public required ForecastQualities PastForecasts { get; init; }

    /// <summary>The reading of its source; null when that is not running.</summary>
    public CaptureStatus? Capture { get; init; }

    /// <summary>
    /// For a draft for which the source's log is kept: the position after which all changes of its tables are held; null for others and
    /// until it is known.
    /// </summary>
    public LogPosition? KeptAfter { get; init; }

    /// <summary>The mark up to which it goes before it stops; null when there is none.</summary>
    public StopMark? Until { get; init; }

    /// <summary>Why nothing is applied though it runs: a window of rest, or its limit; null when something may be.</summary>
    public string? Resting { get; init; }

    /// <summary>When the next run of its schedule begins; null while one continues, and without a schedule.</summary>
    public DateTimeOffset? NextRun { get; init; }

    /// <summary>Where its delay comes from, in words; null when nothing delays it.</summary>
    public string? Cause { get; init; }

    /// <summary>Its tables; empty for a draft.</summary>
    public required IReadOnlyList<TableStatus> Tables { get; init; }

    public string Name => Definition.Name;

    /// <summary>
    /// The worst of all that holds of it, and the rest. Derived once: a page asks for it many times, and tables may be thousands.
    /// </summary>
    public Headline Headline
    {
        get
        {
            // A copy with something changed has another.
            var known = derived;
            if (known is null || !ReferenceEquals(known.Of, this))
            {
                derived = known = new Derived(this, HeadlineRule.Of(HeadlineReader.FactsOf(this)));
            }

            return known.Headline;
        }
    }

    /// <summary>How many changes wait in quarantine.</summary>
    public int Quarantined => Tables.Sum(table => table.Quarantined);

    /// <summary>The oldest of the proofs of its tables; null while one of them was never proved equal.</summary>
    public Proof? Proved =>
        Tables.Count == 0 || Tables.Any(table => table.Verdict?.Proved is null)
            ? null
            : Tables.Select(table => table.Verdict!.Proved!).MinBy(proof => proof.Position);

    /// <summary>
    /// The age of the oldest change that the target lacks, with what quarantine keeps; null where the lag is not known.
    /// </summary>
    public TimeSpan? Behind =>
        Lag is not { } lag ? null
        : KeptSince is { } since && At - since > lag.Behind ? At - since
        : lag.Behind;

    /// <summary>How many rows differed when their tables were compared last.</summary>
    public long Differences => Tables.Sum(table => table.Verdict?.Differences ?? 0);

    /// <summary>Whether it is behind because someone wanted it so: between two runs of its schedule, or in a window of rest.</summary>
    public bool RestsAsPlanned(DateTimeOffset now) => NextRun is not null || Definition.RestsAt(now);

    /// <summary>Whether all of these tables, by their names at the source, continue once somebody agrees to what holds them.</summary>
    public bool MayContinue(IReadOnlyCollection<string> tables) =>
        tables.Count > 0 && Tables.Count(table => table.MayContinue && tables.Contains(table.Source.ToString())) == tables.Count;

    /// <summary>The share of the load at hand that is done, 0 to 1; null when none is at hand.</summary>
    public double? LoadShare
    {
        get
        {
            var loading = Tables.Where(table => table.RowsToLoad is not null).ToList();
            var all = loading.Sum(table => table.RowsToLoad!.Value);
            return loading.Count == 0 ? null
                : all == 0 ? 1
                : Math.Min(1, (double)loading.Sum(table => table.RowsLoaded) / all);
        }
    }

    private sealed class Derived(CrossingStatus of, Headline headline)
    {
        public CrossingStatus Of => of;

        public Headline Headline => headline;
    }
}
