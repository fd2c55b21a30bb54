using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Treating;

/// <summary>
/// What a copy has of its source's table as that is now. What was done to columns since the load, and is left out by the crossing's rules,
/// was not done to the copy: it lacks columns, or has them under the names that they had.
/// </summary>
/// <param name="Treating">What makes the copy's rows of the source's.</param>
/// <param name="Missing">The source's columns that the copy does not have.</param>
/// <param name="Kept">Columns that the copy has and the source has no more: what they hold in a row that is written nobody knows.</param>
internal sealed record CopiedColumns(CrossingTreatment Treating, IReadOnlyList<string> Missing, IReadOnlyList<string> Kept)
{
    /// <summary>The treatment by which single rows of the copy are written. Throws <see cref="RequestRefusedException"/>.</summary>
    /// <param name="copied">As <see cref="Of"/> gave it.</param>
    /// <param name="now">The source's table.</param>
    public static TableTreatment ForWriting(CopiedColumns? copied, TableSchema now)
    {
        if (copied is null)
        {
            throw new RequestRefusedException($"The columns or the key of {now.Name} changed at the source since it was loaded.")
            {
                Remedy = "Try again when that has reached the target; else reload the table.",
            };
        }

        return copied.Kept.Count == 0
            ? copied.Treating.Build(now)
            : throw new RequestRefusedException($"The target keeps column {copied.Kept[0]} of {now.Name}, which the source has dropped.")
            {
                Remedy = "Reload the table, or drop the column there.",
            };
    }

    /// <summary>Null where the copy is of another form, and not by the rules alone.</summary>
    /// <param name="treating">What the definition makes of tables.</param>
    /// <param name="spool">Knows the forms of the table.</param>
    /// <param name="progress">What the target knows of it; null where it knows nothing.</param>
    /// <param name="now">The source's table.</param>
    public static CopiedColumns? Of(CrossingTreatment treating, Spool spool, TableProgress? progress, TableSchema now)
    {
        if (progress?.Fingerprint is not { } loaded || SchemaFingerprint.IsOf(loaded, now))
        {
            return new CopiedColumns(treating, [], []);
        }

        var definition = treating.Definition;
        return
            LoadedForm.Find(spool, now.Name, loaded)?.Form is { } had
            && had.IsOfSameTable(now)
            && !TablePattern.IsPattern(now.Name.ToString())
            && LoadedForm.Steps(had, now) is { Count: > 0 } steps
            && steps.TrueForAll(step => definition.OnSchemaChange(now.Name, step) == SchemaChangeAction.LeaveOut)
            ? Without(treating, now.Name, steps)
            : null;
    }

    private static CopiedColumns? Without(CrossingTreatment treating, TableName table, List<SchemaChange> steps)
    {
        SchemaChangeKind[] known = [SchemaChangeKind.ColumnAdded, SchemaChangeKind.ColumnDropped, SchemaChangeKind.ColumnRenamed];
        if (steps.Exists(step => !known.Contains(step.Kind)))
        {
            return null;
        }

        List<string> added = [.. steps.Where(step => step.Kind == SchemaChangeKind.ColumnAdded).Select(step => step.Subject)];
        List<RenamedColumn> renamed =
        [
            .. steps
                .Where(step => step.Kind == SchemaChangeKind.ColumnRenamed)
                .Select(step => new RenamedColumn(step.Subject, step.Before!)),
        ];
        var first = new TreatmentStep(
            table.ToString(),
            LeaveOut: added.Count > 0 ? added : null,
            Rename: renamed.Count > 0 ? renamed : null
        );
        var definition = treating.Definition;
        return new CopiedColumns(
            treating.With(definition with { Treatment = [first, .. definition.Treatment ?? []] }),
            added,
            [.. steps.Where(step => step.Kind == SchemaChangeKind.ColumnDropped).Select(step => step.Subject)]
        );
    }
}
