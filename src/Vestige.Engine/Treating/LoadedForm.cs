using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Treating;

/// <summary>The form under which the rows of a copy were loaded, or to which it was changed since, as the spool knows it.</summary>
internal static class LoadedForm
{
    /// <summary>The latest form like the one of a fingerprint, with its number; null where the log has told none like it.</summary>
    public static (int Relation, TableSchema Form)? Find(Spool spool, TableName table, string fingerprint)
    {
        (int Relation, TableSchema Form)? found = null;
        foreach (var (relation, form) in spool.Relations)
        {
            if (
                form.Name == table
                && form.Columns.Count > 0
                && SchemaFingerprint.IsOf(fingerprint, form)
                && (found is null || form.Generation > found.Value.Form.Generation)
            )
            {
                found = (relation, form);
            }
        }

        return found;
    }

    /// <summary>The steps between two forms that concern rows; none where those are not all.</summary>
    public static List<SchemaChange> Steps(TableSchema before, TableSchema after)
    {
        var steps = SchemaComparison.Steps(before, after).Where(step => !step.KeepsRows).ToList();
        return steps.Count == SchemaComparison.Between(before, after).Count(change => !change.KeepsRows) ? steps : [];
    }
}
