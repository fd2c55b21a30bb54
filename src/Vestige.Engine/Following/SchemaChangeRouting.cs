using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Following;

/// <summary>
/// Decides what a change of a table's schema means for a crossing: it is carried, left out, passed over, holds the table, or stops the
/// crossing. Not safe for several threads.
/// </summary>
internal sealed class SchemaChangeRouting(Spool spool, CrossingTreatment treating, SkippedRows aside)
{
    private readonly CarriedSchemaChanges carried = new(spool, treating);
    private LogPosition? previous;
    private LogPosition? current;
    private int counted;

    /// <summary>What is to be done to the target's tables before the next row is written.</summary>
    public IReadOnlyList<CarriedEdit> TakeEdits() => carried.Take();

    /// <summary>How rows of a form are read that is not the one that was loaded; null where they cannot be.</summary>
    public EarlierRows? Reading(TableSchema form, string loaded) => carried.Reading(form, loaded);

    /// <summary>
    /// The progress of a table after a change of its schema; the same where nothing changes for the crossing. A change may be told after
    /// the load that found it done; the rows have it then.
    /// </summary>
    /// <param name="progress">The table's progress so far.</param>
    /// <param name="form">The source's table after the change.</param>
    /// <param name="notice">What was done.</param>
    /// <param name="fragment">The transaction that has it.</param>
    /// <param name="editor">By what the target's table is changed; null where the table is held.</param>
    /// <param name="since">Everything up to here was applied before; null where a held table need not continue.</param>
    public TableProgress After(
        TableProgress progress,
        TableSchema form,
        SchemaNotice notice,
        SpooledFragment fragment,
        ISchemaEditor? editor,
        LogPosition? since
    )
    {
        var isNew =
            notice.IsExact
            || notice.KeepsRows
            || notice.Changes.Any(step => step.TakesRows)
            || progress.Fingerprint is null
            || !SchemaFingerprint.Holds(progress.Fingerprint, form, notice.Values);
        if (!isNew)
        {
            return progress;
        }

        var outcome = editor is null ? default : Carry(progress, form, notice, fragment);
        if (outcome.Fingerprint is { } fingerprint)
        {
            return progress with { Fingerprint = fingerprint };
        }

        if (IsPassedOver(progress.Table, notice))
        {
            return progress;
        }

        if (editor is not null)
        {
            ThrowIfToStop(progress.Table, notice);
        }

        return Held(progress, notice, outcome, fragment, editor, since);
    }

    /// <summary>A target to which nothing is applied one by one would not have what came before it; there the table is held.</summary>
    private void ThrowIfToStop(TableName table, SchemaNotice notice)
    {
        var steps = notice.Changes.Count > 0 ? notice.Changes : [new SchemaChange(SchemaChangeKind.ObjectChanged, "")];
        if (steps.Any(step => treating.Definition.OnSchemaChange(table, step) == SchemaChangeAction.Stop))
        {
            throw new SchemaChangeStopException($"{table} was changed at the source: {notice.What}. The crossing's rule is to stop.")
            {
                Remedy = "Change the rule for schema changes in the definition, then resume. Everything before the change is applied.",
            };
        }
    }

    /// <summary>
    /// Continues with what was done to the table. Rows in quarantine are of the form that they were refused in, and are tried again in
    /// that: only what leaves the form as it is can be done while there are some.
    /// </summary>
    private CarryOutcome Carry(TableProgress progress, TableSchema form, SchemaNotice notice, SpooledFragment fragment)
    {
        if (notice.Changes.Count == 0 || progress.Fingerprint is not { } loaded)
        {
            return default;
        }

        return aside.Has(progress.Table) && !notice.KeepsRows
            ? new CarryOutcome(null, "Rows of it wait in quarantine", null)
            : carried.TryCarry(loaded, form, notice, isAgreed: fragment.Position <= progress.AgreedUpTo);
    }

    /// <summary>
    /// Holds the table before the transaction, with what a person can agree to. Where something of the transaction was done to it already,
    /// whoever applies it begins the transaction again, without the table.
    /// </summary>
    private TableProgress Held(
        TableProgress progress,
        SchemaNotice notice,
        CarryOutcome outcome,
        SpooledFragment fragment,
        ISchemaEditor? editor,
        LogPosition? since
    )
    {
        var why = outcome.Why is { Length: > 0 } reason ? $" {reason.TrimEnd('.')}." : "";
        var what = $"The table was changed at the source: {notice.What}.{why}";
        if (Statements(editor, outcome.Agreeable) is not { } statements)
        {
            return progress.HeldAt(fragment.Position, what, null);
        }

        what = HeldCause.With(what, statements);
        if (WasChangedBefore(progress.Table, fragment))
        {
            throw new SchemaChangeRefusedException(what) { Table = progress.Table };
        }

        LogPosition? reached = since is { } begin ? LogPosition.Max(previous ?? begin, progress.Position) : null;
        return progress.HeldAt(fragment.Position, what, reached);
    }

    private static string? Statements(ISchemaEditor? editor, SchemaEdit? edit)
    {
        try
        {
            return editor is null || edit is null ? null : string.Join("; ", editor.StatementsFor(edit));
        }
        catch (PortException)
        {
            return null;
        }
    }

    /// <summary>Counts the changes of the transaction at hand, and knows where the one before it was.</summary>
    public void Count(SpooledFragment fragment)
    {
        if (fragment.Position != current)
        {
            (previous, current, counted) = (current, fragment.Position, 0);
        }

        counted++;
    }

    /// <summary>Whether the transaction has changed the table before the change at hand.</summary>
    private bool WasChangedBefore(TableName table, SpooledFragment fragment)
    {
        var changes = new ChangeReader(fragment.Changes);
        for (var i = 1; i < counted && changes.TryRead(out var change); i++)
        {
            if (spool.Relation(change.Relation).Name == table)
            {
                return true;
            }
        }

        return !fragment.First;
    }

    /// <summary>What concerns no row, and lets nothing in that the target would refuse, need not be made there.</summary>
    private bool IsPassedOver(TableName table, SchemaNotice notice) =>
        notice.KeepsRows
        && notice.Changes.All(step =>
            step.KeepsOut
            || step.Kind == SchemaChangeKind.DefaultChanged
            || treating.Definition.OnSchemaChange(table, step) is not (SchemaChangeAction.Hold or SchemaChangeAction.Stop)
        );
}
