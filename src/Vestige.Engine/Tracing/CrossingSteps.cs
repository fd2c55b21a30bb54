using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Tracing;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Tracing;

/// <summary>Tells of changes how far they have come in one crossing, as of when it was made.</summary>
/// <param name="entry">The crossing.</param>
/// <param name="treating">What it makes of rows.</param>
/// <param name="decided">What was decided in its quarantine, the latest first.</param>
internal sealed class CrossingSteps(CrossingEntry entry, CrossingTreatment treating, IReadOnlyList<DecidedChange> decided)
{
    private readonly TargetProgress progress = entry.Progress;
    private readonly ILookup<LogPosition, WaitingChange> quarantined = entry
        .Quarantine.UpTo(entry.Progress.Position)
        .ToLookup(change => change.Position);
    private readonly ILookup<LogPosition, DecidedChange> decisions = decided.ToLookup(one => one.Change.Position);
    private readonly Dictionary<TableSchema, TableTreatment?> treatments = new(ReferenceEqualityComparer.Instance);

    public TracedStep Of(TracedChange traced)
    {
        var (form, change, position) = (traced.Schema, traced.Change, traced.Position);
        var (made, problem) = Made(form, change, traced.CommittedAt);
        bool IsIt(WaitingChange one) => one.Table == form.Name && one.Keys.Intersect(WaitingChange.KeysOf(form, change)).Any();
        var waits = quarantined[position].FirstOrDefault(IsIt);
        var decision = decisions[position].FirstOrDefault(one => IsIt(one.Change));
        var stage = StageOf(form, change, position, waits, made.Count == 0 && problem is null);
        if (stage == TraceStage.Applied && decision is { Dropped: true })
        {
            stage = TraceStage.Dropped;
        }

        return new TracedStep(
            entry.Name,
            stage,
            stage == TraceStage.Applied ? AppliedAt(traced) : null,
            made,
            problem,
            waits,
            stage is TraceStage.Applied or TraceStage.Dropped or TraceStage.Quarantined ? decision : null
        );
    }

    /// <summary>A time before it was captured is that of another log whose positions were numbered alike.</summary>
    private DateTimeOffset? AppliedAt(TracedChange traced) =>
        entry.Meter.AppliedAt(traced.Position) is { } at && at >= traced.CapturedAt ? at : null;

    private TraceStage StageOf(TableSchema form, RowChange change, LogPosition position, WaitingChange? waits, bool makesNothing)
    {
        if (progress.Tables.FirstOrDefault(one => one.Table == form.Name) is not { Loaded: true } table)
        {
            return TraceStage.BeforeLoad;
        }

        if (!table.Held && position <= table.Position)
        {
            return TraceStage.InLoad;
        }

        if (waits is not null)
        {
            return TraceStage.Quarantined;
        }

        if (table.Held && position >= table.Position)
        {
            return TraceStage.Held;
        }

        if (makesNothing || (change.Kind != ChangeKind.Insert && treating.Definition.AppliedAs(form.Name) == ApplyMode.InsertOnly))
        {
            return TraceStage.LeftOut;
        }

        return position <= (table.Reached ?? progress.Position) ? TraceStage.Applied : TraceStage.Waiting;
    }

    private (IReadOnlyList<TreatedChange> Made, string? Problem) Made(TableSchema form, RowChange change, DateTimeOffset committedAt)
    {
        if (change.Kind == ChangeKind.Schema)
        {
            return ([], $"the form changed: {(change.After.Count > 0 ? change.After.TextAt(0) : "it is not said how")}");
        }

        if (!treatments.TryGetValue(form, out var treatment))
        {
            treatments.Add(form, treatment = treating.TryBuild(form).Treatment);
        }

        if (treatment is null)
        {
            return ([], "its table cannot be treated as the definition says");
        }

        try
        {
            var made = new List<TreatedChange>();
            treatment.Treat(change, committedAt, made);
            return (made, null);
        }
        catch (EvaluationException exception)
        {
            return ([], exception.Message);
        }
    }
}
