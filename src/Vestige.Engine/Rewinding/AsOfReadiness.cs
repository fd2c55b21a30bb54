using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Following;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Rewinding;

/// <summary>Whether tables can be copied as they were at a place in the past: what the spool holds of them since says that.</summary>
internal sealed class AsOfReadiness(SourceSystem source, TargetSystem target, Spool? spool, TimeProvider clock)
{
    private const string Needed = "every row as it was before each change since, in one schema";

    public async Task<IReadOnlyList<ReadinessCheck>> CheckAsync(
        StartPlace place,
        IReadOnlyList<TableTreatment> treatments,
        CancellationToken cancellation
    )
    {
        if (target.Find<ITableTarget>() is null)
        {
            return
            [
                No("rows as of then", "this target does not take rows back", "a target of tables", "Choose a database as the target."),
            ];
        }

        var names = treatments.Select(treatment => treatment.Source.Name).ToList();
        var (check, found) = await new PastStart(source, spool, clock).FindAsync(place, names, cancellation);
        if (found is not { } asOf)
        {
            return [check with { Remedy = "Choose a later time or position; or wait until the log is read that far." }];
        }

        var format = source.Log.Format;
        var distance = Figures.Bytes(spool!.Distance(source.Log, asOf, spool.Last));
        var spans = await TableSpan.ReadAsync(spool, asOf, spool.Last, names, format, cancellation);
        return
        [
            check with
            {
                Found =
                    $"rows as of position {format(asOf)}; {distance} of log since then are taken back, and what comes until the rows are "
                    + "loaded",
            },
            .. treatments.Select(treatment => CheckOf(treatment, spans[treatment.Source.Name])),
        ];
    }

    private static ReadinessCheck CheckOf(TableTreatment treatment, TableSpan span)
    {
        var step = $"changes of {treatment.Source.Name}";
        return treatment.Mode != ApplyMode.Upsert
                ? No(step, "its target table keeps history or takes inserts only", "rows that are updated and deleted", "Leave it out.")
            : !treatment.Source.HasKey ? No(step, "it has no key by which a row could be found", "a key", "Leave it out.")
            : span.Problem is { } problem ? No(step, problem, Needed, "Choose a later position, or leave the table out.")
            : new ReadinessCheck(step, true, $"{Figures.Of(span.Changes, "change")} to take back", Needed, null, TimeSpan.Zero);
    }

    private static ReadinessCheck No(string step, string found, string needed, string remedy) =>
        new(step, false, found, needed, remedy, TimeSpan.Zero);
}
