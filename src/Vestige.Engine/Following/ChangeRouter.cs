using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Folding;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Following;

/// <summary>
/// Decides, change by change and in log order, what concerns a crossing, and treats it: its tables, after the position at which
/// each was loaded, unless it is loaded or caught up beside the stream, until a table is held, and only its inserts where nothing
/// else is wanted. A change of a table's form is carried to the target or holds the table from there on. Changes of rows that wait
/// in quarantine are passed over. Not safe for several threads.
/// </summary>
internal sealed class ChangeRouter(
    Spool spool,
    CrossingTreatment treating,
    SkippedRows aside,
    ImmutableDictionary<TableName, TableProgress> tables
)
{
    private readonly Dictionary<int, Treated> forms = [];
    private (string Text, bool ComesBack) lastRoute = ("", false);
    private const long MostGathered = 64 << 20;
    private readonly List<TreatedChange> treated = [];
    private readonly Dictionary<TableTreatment, TableFold> gathered = [];
    private readonly HashSet<TableTreatment> withoutBefore = [];
    private readonly SchemaChangeRouting schemaChanges = new(spool, treating, aside);
    private long gatheredBytes;

    /// <summary>The progress per table, holds that were met included.</summary>
    public ImmutableDictionary<TableName, TableProgress> Tables { get; private set; } = tables;

    /// <summary>Whose rows the target's tables hold, of the forms met so far.</summary>
    public ImmutableDictionary<TableName, TableOwner> Owners { get; private set; } = ImmutableDictionary<TableName, TableOwner>.Empty;

    /// <summary>What was passed over.</summary>
    public SkippedRows Aside => aside;

    /// <summary>The target database, as routes name it: what came from it does not go back to it. Null where that is not known.</summary>
    public string? Target { get; init; }

    /// <summary>By what the target's tables are changed as the source's are; null where a table whose schema changes is held.</summary>
    public ISchemaEditor? Editor { get; set; }

    /// <summary>Everything up to here was applied before; null where a table that is held need not continue.</summary>
    public LogPosition? Since { get; init; }

    /// <summary>
    /// Where set, rows whose treatment has no value are passed over, and of each row that is treated it is told at which place of the
    /// routed changes what the treatment makes of it begins.
    /// </summary>
    public List<RoutedRow>? Isolated { get; init; }

    /// <summary>
    /// Appends what is to be applied for a change; of a table whose versions are kept nothing before <see cref="End"/>. Throws
    /// <see cref="RowRefusedException"/> when its treatment has no value for the row; nothing is appended then.
    /// </summary>
    public void Route(SpooledFragment fragment, RowChange change, List<RoutedChange> into)
    {
        schemaChanges.Count(fragment);
        var form = FormOf(change.Relation);
        if (form.Source is not { } source)
        {
            return;
        }

        var progress = Tables[source.Name];
        if (progress.Held || !progress.IsInStream || fragment.Position <= progress.Position)
        {
            return;
        }

        if (change.Kind != ChangeKind.Schema && ComesBack(fragment))
        {
            return;
        }

        if (change.Kind != ChangeKind.Schema && form.Earlier is { } earlier)
        {
            change = earlier.Read(change);
        }

        if (change.Kind == ChangeKind.Schema)
        {
            // By its own form: that of rows may be read as another.
            TakeSchemaChange(progress, spool.Relation(change.Relation), SchemaNotice.Of(change), fragment);
        }
        else if (form.Treatment is not { } treatment)
        {
            Hold(
                progress,
                fragment.Position,
                $"The table's columns changed, and its rows cannot be read any more: {form.Problem}."
            );
        }
        else if (treatment.Mode is ApplyMode.KeepDeleted or ApplyMode.KeepVersions && change.Kind == ChangeKind.Truncate)
        {
            Hold(
                progress,
                fragment.Position,
                "The table was emptied at the source by a truncation, and its rows are to be kept, each with its time."
            );
        }
        else if (treatment.Mode == ApplyMode.KeepVersions)
        {
            Gather(treatment, change);
        }
        else if (treatment.Mode != ApplyMode.InsertOnly || change.Kind == ChangeKind.Insert)
        {
            Treat(treatment, fragment, change, into);
        }
    }

    /// <summary>What is to be done to the target's tables before the next row is written.</summary>
    public IReadOnlyList<CarriedEdit> TakeEdits() => schemaChanges.TakeEdits();

    /// <summary>Appends, at the end of a transaction, the versions that it made: one for each row, however often it was changed.</summary>
    public void End(SpooledFragment fragment, List<RoutedChange> into)
    {
        if (!fragment.Last || gathered.Count == 0)
        {
            return;
        }

        try
        {
            foreach (var (treatment, fold) in gathered)
            {
                foreach (var row in fold.Finish().Rows)
                {
                    // The fold puts the row after instead of one before that the log does not carry; whether anything changed is not
                    // known then.
                    var before = row.Kind == ChangeKind.Update && withoutBefore.Contains(treatment) ? default : row.Before;
                    Treat(treatment, fragment, new RowChange(row.Kind, 0, before, row.After), into);
                }
            }
        }
        finally
        {
            gathered.Clear();
            withoutBefore.Clear();
            gatheredBytes = 0;
        }
    }

    /// <summary>Folds a change with those of its transaction; the rows are copied, since a large one comes in parts.</summary>
    private void Gather(TableTreatment treatment, RowChange change)
    {
        if (!gathered.TryGetValue(treatment, out var fold))
        {
            gathered.Add(treatment, fold = new TableFold(treatment.Source));
        }

        gatheredBytes += change.Before.Bytes.Length + change.After.Bytes.Length;
        if (gatheredBytes > MostGathered)
        {
            throw new PortException(
                $"A transaction changes more rows of {treatment.Source.Name} than versions can be made of: over "
                    + $"{Figures.Bytes(MostGathered)}."
            )
            {
                Remedy = "Choose another apply mode for the table, or change that many rows in several transactions.",
            };
        }

        if (change.Kind == ChangeKind.Update && change.Before.IsNone)
        {
            withoutBefore.Add(treatment);
        }

        try
        {
            fold.Add(new RowChange(change.Kind, 0, Copied(change.Before), Copied(change.After)));
        }
        catch (FoldingException exception)
        {
            throw Refused(treatment, change, new EvaluationException(exception.Message.TrimEnd('.')));
        }
    }

    private static Row Copied(Row row) => row.IsNone ? default : new Row(row.Bytes.ToArray());

    private void Treat(TableTreatment treatment, SpooledFragment fragment, RowChange change, List<RoutedChange> into)
    {
        var source = treatment.Source.Name;
        if (change.Kind == ChangeKind.Truncate)
        {
            aside.Truncate(treatment.Source, fragment);
        }
        else if (aside.TryPass(treatment.Source, fragment, change))
        {
            return;
        }

        var first = into.Count;
        if (treatment.IsIdentity)
        {
            into.Add(new RoutedChange(source, treatment.Tables[0].Schema, change));
        }
        else if (!TryTreat(treatment, fragment, change))
        {
            return;
        }
        else
        {
            foreach (var (table, made) in treated)
            {
                into.Add(new RoutedChange(source, table.Schema, made));
            }
        }

        Isolated?.Add(new RoutedRow(treatment.Source, change, first, into.Count));
    }

    /// <summary>False when the row has been passed over.</summary>
    private bool TryTreat(TableTreatment treatment, SpooledFragment fragment, RowChange change)
    {
        treated.Clear();
        try
        {
            treatment.Treat(change, fragment.CommittedAt, treated);
            return true;
        }
        catch (EvaluationException exception)
        {
            var refusal = Refused(treatment, change, exception);
            if (Isolated is null)
            {
                throw refusal;
            }

            aside.Refuse(treatment.Source, fragment, change, null, refusal);
            return false;
        }
    }

    /// <summary>The key is told only where no mask stands on it.</summary>
    internal static RowRefusedException Refused(TableTreatment treatment, RowChange change, EvaluationException exception)
    {
        var (form, row) = (treatment.Source, change.After.IsNone ? change.Before : change.After);
        var masked = treatment.Hidden.Any(form.KeyOrdinals.Contains);
        var key = masked ? "" : RowKey.Display(row, form.KeyOrdinals);
        return new RowRefusedException(
            $"{ChangeSymbols.Of(change.Kind)} of {form.Name}{(masked ? ", its key masked," : key.Length > 0 ? $" {key}" : "")} cannot "
                + $"be treated: {exception.Message}.",
            exception
        )
        {
            Table = form.Name,
            Kind = change.Kind,
            Key = key,
            Answer = exception.Message,
            Remedy = "Correct the row at the source, or change the treatment and load the table again. Everything before it is applied.",
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

        if (Tables[form.Name].Fingerprint is { } loaded && !SchemaFingerprint.IsOf(loaded, form))
        {
            return ReadAsAnother(form, loaded)
                ?? new Treated(form, null, "rows were written under other columns, or another key, than those that were loaded");
        }

        var (treatment, problems) = treating.TryBuild(form);
        foreach (var table in treatment?.Tables ?? [])
        {
            Owners = Owners.SetItem(table.Schema.Name, new TableOwner(form.Name, treatment!.MeetsExpectations));
        }

        return new Treated(form, treatment, problems.Count > 0 ? problems[0].Found : "");
    }

    /// <summary>Rows of a form that differs from what was loaded only by what is or was carried; null for any other.</summary>
    private Treated? ReadAsAnother(TableSchema form, string loaded) =>
        schemaChanges.Reading(form, loaded) is { } earlier && FormOf(earlier.Relation) is { Treatment: not null } treated
            ? treated with
            {
                Earlier = earlier,
            }
            : null;

    private bool ComesBack(SpooledFragment fragment)
    {
        if (fragment.Route is not { } text || Target is null)
        {
            return false;
        }

        if (text != lastRoute.Text)
        {
            lastRoute = (text, Core.Routes.Route.Parse(text).Has(Target));
        }

        return lastRoute.ComesBack;
    }

    private void TakeSchemaChange(TableProgress progress, TableSchema form, SchemaNotice notice, SpooledFragment fragment)
    {
        var after = schemaChanges.After(progress, form, notice, fragment, Editor, Since);
        if (after != progress)
        {
            Tables = Tables.SetItem(progress.Table, after);
            forms.Clear();
        }
    }

    private void Hold(TableProgress progress, LogPosition position, string what) =>
        Tables = Tables.SetItem(progress.Table, progress.HeldAt(position, what, null));

    private readonly record struct Treated(TableSchema? Source, TableTreatment? Treatment, string Problem)
    {
        /// <summary>How rows are read as ones of the form; null where they are.</summary>
        public EarlierRows? Earlier { get; init; }
    }
}
