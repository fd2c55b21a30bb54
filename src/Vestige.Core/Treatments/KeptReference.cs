using Vestige.Core.Crossings;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>A reference between two tables as it holds on the target too.</summary>
/// <param name="Columns">The referring columns, by the target's names.</param>
/// <param name="References">The target's table they refer to.</param>
/// <param name="ReferencedColumns">Its columns, by the target's names.</param>
public sealed record KeptReference(IReadOnlyList<string> Columns, TableName References, IReadOnlyList<string> ReferencedColumns)
{
    /// <summary>
    /// What a reference of a source becomes; null with the reason where it would not hold: both sides must carry the values as
    /// they are, and every row that is referred to must be there.
    /// </summary>
    public static KeptReference? Of(
        TableTreatment from,
        TableTreatment to,
        IReadOnlyList<string> columns,
        IReadOnlyList<string> referenced,
        out string reason
    )
    {
        ArgumentNullException.ThrowIfNull(from);
        ArgumentNullException.ThrowIfNull(to);
        reason = "";
        if (from.Mode == ApplyMode.InsertOnly || to.Mode == ApplyMode.InsertOnly)
        {
            reason = "where only inserts come, rows stay whose parents have gone, or lack parents that changed";
        }
        else if (from.Mode == ApplyMode.KeepDeleted && to.Mode != ApplyMode.KeepDeleted)
        {
            reason = "deleted rows stay, and their parents do not";
        }
        else if (from.Mode == ApplyMode.KeepVersions || to.Mode == ApplyMode.KeepVersions)
        {
            reason = "every version of a row stays";
        }
        else if (from.IsCombined || to.IsCombined)
        {
            reason = "rows of several tables are in one there";
        }
        else if (!to.KeepsAllRows)
        {
            reason = $"not all rows of {to.Source.Name} are in one table there";
        }
        else if (CarriedColumns.Unchanged(from, columns) is not { } mine || CarriedColumns.Unchanged(to, referenced) is not { } theirs)
        {
            reason = "a column of it is not replicated unchanged";
        }
        else if (from.CrossesEngines && !TypesOf(from, mine).SequenceEqual(TypesOf(to, theirs)))
        {
            reason = "what refers and what is referred to are of two types there";
        }
        else
        {
            return new KeptReference(mine, to.Tables[0].Schema.Name, theirs);
        }

        return null;
    }

    private static IEnumerable<string> TypesOf(TableTreatment treatment, IEnumerable<string> columns) =>
        columns.Select(name => treatment.Columns.First(column => column.Name == name).Type);
}
