using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Following;

/// <summary>
/// Decides, change by change and in log order, what concerns a crossing, and treats it: its tables, after the position at which
/// each was loaded, until a table is held, and only its inserts where nothing else is wanted. A change of a table's form holds
/// the table from there on. Not safe for several threads.
/// </summary>
internal sealed class ChangeRouter(Spool spool, CrossingTreatment treating, ImmutableDictionary<TableName, TableProgress> tables)
{
    private readonly Dictionary<int, Treated> forms = [];
    private readonly List<TreatedChange> treated = [];

    /// <summary>The progress per table, holds that were met included.</summary>
    public ImmutableDictionary<TableName, TableProgress> Tables { get; private set; } = tables;

    /// <summary>Whose rows the target's tables hold, of the forms met so far.</summary>
    public ImmutableDictionary<TableName, TableOwner> Owners { get; private set; } = ImmutableDictionary<TableName, TableOwner>.Empty;

    /// <summary>
    /// Appends what is to be applied for a change. Throws <see cref="RowRefusedException"/> when its treatment has no value
    /// for the row; nothing is appended then.
    /// </summary>
    public void Route(SpooledFragment fragment, RowChange change, List<RoutedChange> into)
    {
        var form = FormOf(change.Relation);
        if (form.Source is not { } source)
        {
            return;
        }

        var progress = Tables[source.Name];
        if (progress.Held || fragment.Position <= progress.Position)
        {
            return;
        }

        if (change.Kind == ChangeKind.Schema)
        {
            Hold(progress, fragment.Position, $"The table was changed at the source: {(change.After.Count > 0 ? change.After.TextAt(0) : "its form changed")}.");
        }
        else if (form.Treatment is not { } treatment)
        {
            Hold(progress, fragment.Position, $"The table has another form now and cannot be treated as the definition says: {form.Problem}.");
        }
        else if (treatment.Mode == ApplyMode.KeepDeleted && change.Kind == ChangeKind.Truncate)
        {
            Hold(progress, fragment.Position, "The table was emptied at the source by a truncation, and deleted rows are to be kept, each with its time.");
        }
        else if (treatment.Mode != ApplyMode.InsertOnly || change.Kind == ChangeKind.Insert)
        {
            Treat(treatment, fragment, change, into);
        }
    }

    private void Treat(TableTreatment treatment, SpooledFragment fragment, RowChange change, List<RoutedChange> into)
    {
        var source = treatment.Source.Name;
        if (treatment.IsIdentity)
        {
            into.Add(new RoutedChange(source, treatment.Tables[0].Form, change));
            return;
        }

        treated.Clear();
        try
        {
            treatment.Treat(change, fragment.CommittedAt, treated);
        }
        catch (EvaluationException exception)
        {
            throw Refused(treatment, change, exception);
        }

        foreach (var (table, made) in treated)
        {
            into.Add(new RoutedChange(source, table.Form, made));
        }
    }

    /// <summary>The key is told only where no mask stands on it.</summary>
    internal static RowRefusedException Refused(TableTreatment treatment, RowChange change, EvaluationException exception)
    {
        var (form, row) = (treatment.Source, change.After.IsNone ? change.Before : change.After);
        var masked = treatment.Columns.Any(column => column.Masked && form.KeyOrdinals.Contains(column.Of));
        var key = masked ? "" : RowKey.Display(row, form.KeyOrdinals);
        return new RowRefusedException($"{ChangeMarks.Of(change.Kind)} of {form.Name}{(masked ? ", its key masked," : key.Length > 0 ? $" {key}" : "")} cannot be treated: {exception.Message}.", exception)
        {
            Table = form.Name,
            Kind = change.Kind,
            Key = key,
            Answer = exception.Message,
            Mend = "Correct the row at the source, or change the treatment and load the table again. Everything before it is applied.",
        };
    }

    private Treated FormOf(int relation)
    {
        if (!forms.TryGetValue(relation, out var found))
        {
            var form = spool.Relation(relation);
            found = Tables.ContainsKey(form.Name) ? Build(form) : default;
            forms.Add(relation, found);
        }

        return found;
    }

    /// <summary>What is said of a table beside its rows names it without columns; that is never treated.</summary>
    private Treated Build(TableSchema form)
    {
        if (form.Columns.Count == 0)
        {
            return new Treated(form, null, "it has no columns");
        }

        var (treatment, problems) = treating.TryBuild(form);
        foreach (var table in treatment?.Tables ?? [])
        {
            Owners = Owners.SetItem(table.Form.Name, new TableOwner(form.Name, treatment!.MeetsExpectations));
        }

        return new Treated(form, treatment, problems.Count > 0 ? problems[0].Found : "");
    }

    private void Hold(TableProgress progress, LogPosition position, string what) => Tables = Tables.SetItem(progress.Table, progress with
    {
        Position = position,
        HeldCause = $"{what} Nothing is applied to it from there on. Load the table again to go on.",
    });

    private readonly record struct Treated(TableSchema? Source, TableTreatment? Treatment, string Problem);
}
