using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Following;

/// <summary>
/// Decides whether columns that a source's table got can be added to the target's table while it is followed: where each row that is there
/// has NULL in them, nothing else was done, and nothing is masked. A new column of a table with masks may hold what must not be seen.
/// </summary>
internal static class ColumnAddition
{
    /// <summary>What to add; null where the table is held instead.</summary>
    /// <param name="treating">What the definition makes of tables.</param>
    /// <param name="form">The source's table after it.</param>
    /// <param name="columns">The columns that it got.</param>
    public static AddedColumns? Of(CrossingTreatment treating, TableSchema form, IReadOnlyList<string> columns)
    {
        if (treating.Definition.Kind == StartKind.Changes)
        {
            return null;
        }

        var before = form with { Columns = [.. form.Columns.Where(column => !columns.Contains(column.Name))] };
        if (Plain(treating, before) is not { } was || Plain(treating, form) is not { } now)
        {
            return null;
        }

        var changes = SchemaComparison.Between(was, now);
        return changes.All(change => change.Kind == SchemaChangeKind.ColumnAdded)
            ? new AddedColumns(form.Name, now, [.. changes.Select(change => change.Subject)])
            : null;
    }

    /// <summary>
    /// The one table that all rows go into as they are, or with their columns renamed, left out or converted; null otherwise.
    /// </summary>
    private static TableSchema? Plain(CrossingTreatment treating, TableSchema form)
    {
        var (treatment, problems) = treating.TryBuild(form);
        return
            problems.Count == 0
            && treatment is { Tables: [{ Schema: { Statement: null, Shared: null } table }], Children.Count: 0, Hidden.Count: 0 }
            && treatment.Masked.Count == 0
            && treatment.Mode is ApplyMode.Upsert or ApplyMode.InsertOnly
            ? table with
            {
                Incarnation = null,
                Stamp = null,
            }
            : null;
    }
}
