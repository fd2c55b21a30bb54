using Vestige.Core.Crossings;
using Vestige.Core.Forecasting;
using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Engine.Capturing;
using Vestige.Engine.Reconciling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Measuring;

/// <summary>A crossing at one moment, all that pages and the API show of it.</summary>
/// <param name="Definition">What a person said.</param>
/// <param name="State">The one state it has.</param>
/// <param name="Since">Since when.</param>
/// <param name="By">Who last steered it.</param>
/// <param name="Fault">Why it is faulted; null when it is not.</param>
/// <param name="Waiting">What it waits out by itself; null when nothing.</param>
/// <param name="Lag">How far behind; null before there is a place.</param>
/// <param name="CapturedAge">Age of the captured point of the wake.</param>
/// <param name="SpooledAge">Age of the spooled point.</param>
/// <param name="AppliedAge">Age of the applied point.</param>
/// <param name="Delay">Mean delay per hop, lately; null when nothing was applied lately.</param>
/// <param name="P95">95th percentile of the delay per transaction over five minutes; null when none was applied.</param>
/// <param name="Arriving">Changes a second becoming durable.</param>
/// <param name="Applied">Changes a second applied.</param>
/// <param name="Backlog">Changes captured and not applied.</param>
/// <param name="TransactionsBehind">Transactions captured and not applied.</param>
/// <param name="BytesBehind">Bytes of log between the head and the applied position; null before there is a place.</param>
/// <param name="AppliedPosition">Null before there is a place.</param>
/// <param name="Clears">When the backlog clears.</param>
/// <param name="AtWork">Whether it applies what arrives: it runs, rests in no window and waits out nothing.</param>
/// <param name="Exhaustion">When the spool of its source is full and the source's log is lost then.</param>
/// <param name="ExhaustedBy">The other crossing of the same source that brings this about sooner; null when it is this one.</param>
/// <param name="LoadEndsIn">When the load at hand ends; null when none is, or its rate is not known yet.</param>
/// <param name="LoadRange">
/// When it ends at the better and at the worse quartile of its rate lately; null when that is not known yet.
/// </param>
/// <param name="LoadRate">Rows a second of the load at hand; null when none is.</param>
/// <param name="PastForecasts">How good its forecasts were.</param>
/// <param name="Capture">The reading of its source; null when that is not running.</param>
/// <param name="KeptAfter">
/// For a draft for which the source's log is kept: the position after which all changes of its tables are held; null for others and until
/// it is known.
/// </param>
/// <param name="Until">The mark up to which it goes before it stops; null when there is none.</param>
/// <param name="Resting">Why nothing is applied though it runs: a window of rest, or its limit; null when something may be.</param>
/// <param name="NextRun">When the next run of its schedule begins; null while one goes on, and without a schedule.</param>
/// <param name="Cause">Where its delay comes from, in words; null when nothing delays it.</param>
/// <param name="Tables">Its tables; empty for a draft.</param>
public sealed record CrossingStatus(
    CrossingDefinition Definition,
    CrossingState State,
    DateTimeOffset Since,
    string By,
    CrossingFault? Fault,
    CrossingFault? Waiting,
    LagReading? Lag,
    TimeSpan CapturedAge,
    TimeSpan SpooledAge,
    TimeSpan AppliedAge,
    HopDelays? Delay,
    TimeSpan? P95,
    double Arriving,
    double Applied,
    long Backlog,
    long TransactionsBehind,
    long? BytesBehind,
    LogPosition? AppliedPosition,
    ClearingForecast Clears,
    bool AtWork,
    LogExhaustion Exhaustion,
    string? ExhaustedBy,
    TimeSpan? LoadEndsIn,
    (TimeSpan Soonest, TimeSpan? Latest)? LoadRange,
    double? LoadRate,
    ForecastQualities PastForecasts,
    CaptureStatus? Capture,
    LogPosition? KeptAfter,
    StopMark? Until,
    string? Resting,
    DateTimeOffset? NextRun,
    string? Cause,
    IReadOnlyList<TableStatus> Tables
)
{
    public string Name => Definition.Name;

    /// <summary>How many changes wait in quarantine.</summary>
    public int Quarantined => Tables.Sum(table => table.Quarantined);

    /// <summary>The oldest of the proofs of its tables; null while one of them was never proved equal.</summary>
    public Proof? Proved =>
        Tables.Count == 0 || Tables.Any(table => table.Verdict?.Proved is null)
            ? null
            : Tables.Select(table => table.Verdict!.Proved!).MinBy(proof => proof.Position);

    /// <summary>How many rows differed when their tables were compared last.</summary>
    public long Differences => Tables.Sum(table => table.Verdict?.Differences ?? 0);

    /// <summary>Whether it is behind because somebody wanted it so: between two runs of its schedule, or in a window of rest.</summary>
    public bool RestsAsPlanned(DateTimeOffset now) => NextRun is not null || Definition.RestsAt(now);

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
}
