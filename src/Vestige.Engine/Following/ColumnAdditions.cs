using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Following;

/// <summary>
/// Columns that a source's table got, and that are added to the target's table while it is followed: where each row that is there has NULL
/// in them, nothing else was done, and nothing is masked. A new column of a table with masks may hold what must not be seen. Not safe for
/// several threads.
/// </summary>
internal sealed class ColumnAdditions(Spool spool, CrossingTreatment treating)
{
    private readonly List<AddedColumns> added = [];

    /// <summary>What is to be added before the next row is written, since this was last called.</summary>
    public IReadOnlyList<AddedColumns> Take()
    {
        if (added.Count == 0)
        {
            return [];
        }

        AddedColumns[] taken = [.. added];
        added.Clear();
        return taken;
    }

    /// <summary>Takes what the table got; false where the table is held instead.</summary>
    /// <param name="loaded">The fingerprint of what was loaded.</param>
    /// <param name="form">The source's table after it.</param>
    /// <param name="notice">What was done.</param>
    public bool TryAdd(string loaded, TableSchema form, SchemaNotice notice)
    {
        if (Missing(loaded, form, notice) is not { Count: > 0 } missing || Of(form, missing) is not { } columns)
        {
            return false;
        }

        if (columns.Columns.Count > 0)
        {
            added.Add(columns);
        }

        return true;
    }

    /// <summary>
    /// Rows that were written before columns were added, and come after: the look that found the columns was ahead of the log. They have
    /// NULL in them. Null where what the table has now is not just that form and more columns, by the database's own numbers.
    /// </summary>
    /// <returns>The number of the form that the table has now, and for each of its columns where such a row has it; -1 for NULL.</returns>
    public (int Relation, IReadOnlyList<int> Places)? Before(TableSchema form, string loaded) =>
        form.Columns.All(column => column.Id is not null)
        && Loaded(form.Name, loaded) is { } now
        && form.IsOfSameTable(now.Form)
        && SchemaComparison.PlainAdditions(form, now.Form).Count > 0
            ? (now.Relation, [.. now.Form.Columns.Select(column => form.IndexOf(column.Name))])
            : null;

    /// <summary>
    /// The columns that the crossing has yet to get. What was told was found by comparing with an earlier form, which is the one that was
    /// loaded, or after a restart one before it; then that which was loaded has some of the columns already. Null for any other.
    /// </summary>
    private IReadOnlyList<string>? Missing(string loaded, TableSchema form, SchemaNotice notice)
    {
        if (SchemaFingerprint.IsSame(loaded, notice.Before!))
        {
            return notice.Adds;
        }

        var had = Loaded(form.Name, loaded)?.Form;
        var isEarlier = had is not null && had.IsOfSameTable(form) && had.Columns.All(column => column.Id is not null);
        var missing = isEarlier ? SchemaComparison.PlainAdditions(had!, form) : [];
        return missing.All(notice.Adds.Contains) ? missing : null;
    }

    /// <summary>The form that was loaded, with its number; null where the log has told none like it.</summary>
    private (int Relation, TableSchema Form)? Loaded(TableName table, string loaded)
    {
        foreach (var (relation, form) in spool.Relations)
        {
            if (form.Name == table && SchemaFingerprint.IsOf(loaded, form))
            {
                return (relation, form);
            }
        }

        return null;
    }

    /// <summary>What to add to the target; null where that cannot be done.</summary>
    private AddedColumns? Of(TableSchema form, IReadOnlyList<string> columns)
    {
        if (treating.Definition.Kind == StartKind.Changes)
        {
            return null;
        }

        var before = form with { Columns = [.. form.Columns.Where(column => !columns.Contains(column.Name))] };
        if (Plain(before) is not { } was || Plain(form) is not { } now)
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
    private TableSchema? Plain(TableSchema form)
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
