using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Following;

/// <summary>
/// What was done to a source's table and is done to the target's while it is followed, by the crossing's rules. Columns that are new to a
/// table with masks are not: they may hold what must not be seen. Nor is what a step of the treatment names. Not safe for several threads.
/// </summary>
internal sealed class CarriedSchemaChanges(Spool spool, CrossingTreatment treating)
{
    private readonly List<CarriedEdit> edits = [];

    /// <summary>What is to be done before the next row is written, since this was last called.</summary>
    public IReadOnlyList<CarriedEdit> Take()
    {
        if (edits.Count == 0)
        {
            return [];
        }

        CarriedEdit[] taken = [.. edits];
        edits.Clear();
        return taken;
    }

    /// <summary>Takes what was done to a table.</summary>
    /// <param name="loaded">The fingerprint of what was loaded.</param>
    /// <param name="form">The source's table after it.</param>
    /// <param name="notice">What was done; with its steps.</param>
    /// <param name="isAgreed">Whether a person has agreed to it.</param>
    public CarryOutcome TryCarry(string loaded, TableSchema form, SchemaNotice notice, bool isAgreed)
    {
        if (ToDo(loaded, form, notice) is not { } todo)
        {
            return default;
        }

        var (before, steps) = todo;
        var actions = steps.ToDictionary(step => step, step => ActionFor(form.Name, step, steps));
        var ofRows = steps.Where(step => !step.KeepsRows).ToList();
        var leftOut = ofRows.Count(step => actions[step] == SchemaChangeAction.LeaveOut);
        if (leftOut > 0)
        {
            return leftOut == ofRows.Count
                ? new CarryOutcome(loaded, null, null)
                : new CarryOutcome(null, "Some of it is left out by the crossing's rules, and some is not", null);
        }

        var (edit, why) = EditOf(before, form, [.. steps.Where(step => actions[step] != SchemaChangeAction.LeaveOut)], notice.IsExact);
        if (
            steps.FirstOrDefault(step => actions[step] is SchemaChangeAction.Hold or SchemaChangeAction.Stop) is { } waits
            && !(isAgreed && actions[waits] == SchemaChangeAction.Hold)
        )
        {
            var loses = waits.Kind switch
            {
                SchemaChangeKind.ColumnDropped => "A column that is dropped loses its values on the target",
                SchemaChangeKind.PartDetached => "The target still has its rows",
                _ => null,
            };
            return new CarryOutcome(null, edit is null ? why : loses, edit);
        }

        if (edit is null && !notice.KeepsRows)
        {
            return new CarryOutcome(null, why, null);
        }

        if (edit is { Changes.Count: > 0 })
        {
            edits.Add(new CarriedEdit(form.Name, edit));
        }

        return new CarryOutcome(SchemaFingerprint.Of(form), null, null);
    }

    /// <summary>
    /// How rows of a form are read that is not the one that was loaded: they were written before what was done since, and the look that
    /// found it was ahead of the log; or after what is left out. Null for any other.
    /// </summary>
    public EarlierRows? Reading(TableSchema form, string loaded)
    {
        if (
            form.Columns.Any(column => column.Id is null)
            || LoadedForm.Find(spool, form.Name, loaded) is not { } known
            || !form.IsOfSameTable(known.Form)
        )
        {
            return null;
        }

        var leftOut = IsLeftOut(known.Form, form);
        return leftOut || IsEarlier(form, known.Form) || IsLike(form, known.Form)
            ? EarlierRows.Between(form, known.Form, known.Relation, leftOut)
            : null;
    }

    /// <summary>
    /// Whether both have the same columns: what lay between two looks may be told otherwise by those of another process, which began at
    /// other moments.
    /// </summary>
    private static bool IsLike(TableSchema form, TableSchema known) =>
        SchemaComparison.Between(form, known).All(change => change.KeepsRows);

    private static bool IsEarlier(TableSchema form, TableSchema known) =>
        LoadedForm.Steps(form, known) is { Count: > 0 } steps
        && (
            form.Generation < known.Generation
            || steps.TrueForAll(step =>
                step.Kind == SchemaChangeKind.ColumnAdded
                && known.Columns[known.IndexOf(step.Subject)].Id > form.Columns.Max(column => column.Id)
            )
        );

    private bool IsLeftOut(TableSchema known, TableSchema form) =>
        LoadedForm.Steps(known, form) is { Count: > 0 } steps
        && steps.TrueForAll(step => treating.Definition.OnSchemaChange(form.Name, step) == SchemaChangeAction.LeaveOut);

    /// <summary>
    /// What is new with a column that is added goes with it: no row of the target has to be read for it. Where rows are only inserted,
    /// those that are gone at the source stay.
    /// </summary>
    private SchemaChangeAction ActionFor(TableName table, SchemaChange step, IReadOnlyList<SchemaChange> steps)
    {
        if (step.TakesRows && treating.Definition.AppliedAs(table) == ApplyMode.InsertOnly)
        {
            return SchemaChangeAction.LeaveOut;
        }

        var added = steps.FirstOrDefault(one => one.Kind == SchemaChangeKind.ColumnAdded && one.Subject == step.Subject);
        return treating.Definition.OnSchemaChange(table, added ?? step);
    }

    /// <summary>
    /// What the crossing has yet to do, from which form. What was told was found by comparing with an earlier form, which is the one that
    /// was loaded; or one before or after it, where some of it was loaded already, or something was left out. Null for any other.
    /// </summary>
    private (TableSchema Before, IReadOnlyList<SchemaChange> Steps)? ToDo(string loaded, TableSchema form, SchemaNotice notice)
    {
        if (notice.Changes.Count == 0)
        {
            return null;
        }

        if (SchemaFingerprint.IsOf(loaded, notice.Before!))
        {
            return (notice.Before!, notice.Changes);
        }

        if (LoadedForm.Find(spool, form.Name, loaded)?.Form is not { } had || !had.IsOfSameTable(form))
        {
            return null;
        }

        var steps = LoadedForm.Steps(had, form);
        var areTold = steps.TrueForAll(step =>
            notice.Changes.Any(told => told.Kind == step.Kind && told.Subject == step.Subject)
            || treating.Definition.OnSchemaChange(form.Name, step) == SchemaChangeAction.LeaveOut
        );
        return steps.Count > 0 && areTold ? (had, [.. steps, .. notice.Changes.Where(change => change.KeepsRows)]) : null;
    }

    /// <summary>What to do to the target's table; or why that cannot be done.</summary>
    private (SchemaEdit? Edit, string Why) EditOf(TableSchema before, TableSchema form, List<SchemaChange> steps, bool isExact)
    {
        if (steps.Select(step => Mention(form.Name, step)).FirstOrDefault(mention => mention is not null) is { } mention)
        {
            return (null, mention);
        }

        if (treating.Definition.Kind == StartKind.Changes || PlainTable.Of(treating, before) is not { } was)
        {
            return (null, "");
        }

        return PlainTable.Of(treating, form) is { } now ? was.EditTo(now, steps, isExact, treating.CrossesEngines) : (null, "");
    }

    /// <summary>What the treatment does with a column that is not called like that any more.</summary>
    private string? Mention(TableName table, SchemaChange step)
    {
        var column = step.Kind switch
        {
            SchemaChangeKind.ColumnDropped => step.Subject,
            SchemaChangeKind.ColumnRenamed => step.Before,
            _ => null,
        };
        return column is not null && ColumnMentions.Of(treating.Definition.Treatment ?? [], table, column) is { Count: > 0 } mentions
            ? $"The treatment names column {column} ({mentions[0]})"
            : null;
    }
}
