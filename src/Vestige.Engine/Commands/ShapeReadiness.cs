using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Commands;

/// <summary>What a definition asks for that a target without transactions cannot do.</summary>
internal static class ShapeReadiness
{
    public static IEnumerable<ReadinessCheck> Of(
        CrossingDefinition definition,
        TargetSystem target,
        IReadOnlyList<TableTreatment> treatments
    )
    {
        if (definition.Quarantine is not null)
        {
            yield return Check(
                "quarantine",
                $"{definition.Target} writes no transactions, so that refused rows cannot wait while others go on",
                "no quarantine",
                "Take the quarantine out of the definition."
            );
        }

        foreach (var own in definition.Structure ?? [])
        {
            yield return Check(
                $"statement for {own.Table}",
                $"{definition.Target} makes no tables by statements",
                "no statement",
                "Remove it from the definition."
            );
        }

        foreach (var table in treatments.Select(treatment => treatment.Source.Name))
        {
            if (definition.ExistingFor(table) == ExistingRows.Merge)
            {
                yield return Check(
                    $"existing rows of {table}",
                    $"{definition.Target} cannot tell this crossing's rows from those of others",
                    "existing rows are deleted, or there are none",
                    "Say in the definition that existing rows of it are deleted first."
                );
            }
        }

        var spread = target.Find<ITableSink>() is null
            ? []
            : treatments.Where(treatment => treatment.Tables.Count != 1 || treatment.IsCombined).Select(treatment => treatment.Source.Name);
        foreach (var table in spread)
        {
            yield return Check(
                $"table {table}",
                $"{definition.Target} keeps the progress of each table with its rows, and {table} shares one with others or goes into "
                    + "several",
                "a table of its own",
                "Give it one target table of its own."
            );
        }
    }

    private static ReadinessCheck Check(string step, string found, string needed, string remedy) =>
        new(step, false, found, needed, remedy, TimeSpan.Zero);
}
