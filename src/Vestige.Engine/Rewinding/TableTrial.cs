using Vestige.Core.Changes;
using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Rewinding;

/// <summary>
/// Treats changes of one table as two definitions say, and compares what comes of it. Values are compared as they are written to the
/// target. Not safe for several threads.
/// </summary>
internal sealed class TableTrial(TableName table, CrossingTreatment before, CrossingTreatment after)
{
    private const int ExamplesOfEach = 5;
    private readonly Dictionary<int, (TableTreatment? Before, TableTreatment? After)> treatments = [];
    private readonly Dictionary<TrialEffect, long> counts = [];
    private readonly List<TriedRow> examples = [];
    private string? problem;

    /// <summary>What came of it.</summary>
    public TriedTable Result => new(table, counts, problem, examples);

    /// <summary>Takes a change of a row.</summary>
    public void Take(int relation, TableSchema form, RowChange change, DateTimeOffset committedAt)
    {
        if (!treatments.TryGetValue(relation, out var both))
        {
            treatments.Add(relation, both = (BuiltBy(before, form), BuiltBy(after, form)));
        }

        if (problem is not null)
        {
            return;
        }

        var (was, _) = Made(both.Before, change, committedAt);
        var (would, refusal) = Made(both.After, change, committedAt);
        var effect =
            refusal is not null ? TrialEffect.Refused
            : was.SequenceEqual(would) ? TrialEffect.Same
            : would.Count == 0 ? TrialEffect.LeftOut
            : was.Count == 0 ? TrialEffect.Added
            : TrialEffect.Changed;
        counts[effect] = counts.GetValueOrDefault(effect) + 1;
        if (effect != TrialEffect.Same && examples.Count(one => one.Effect == effect) < ExamplesOfEach)
        {
            examples.Add(new TriedRow(effect, change.Kind, KeyOf(form, change, both), committedAt, refusal));
        }
    }

    /// <summary>Null where the definition does not take the table, and where it cannot be tried.</summary>
    private TableTreatment? BuiltBy(CrossingTreatment treating, TableSchema form)
    {
        if (!treating.Definition.Tables.Takes(table))
        {
            return null;
        }

        var (treatment, problems) = treating.TryBuild(form);
        problem ??=
            problems.Count > 0 ? $"{problems[0].Found}. {problems[0].Remedy}"
            : treatment?.Mode == ApplyMode.KeepVersions ? "Versions are made of whole transactions, which are not tried."
            : null;
        return treatment;
    }

    private static (List<MadeRow> Made, string? Refusal) Made(
        TableTreatment? treatment,
        RowChange change,
        DateTimeOffset committedAt
    )
    {
        if (treatment is null || (treatment.Mode == ApplyMode.InsertOnly && change.Kind != ChangeKind.Insert))
        {
            return ([], null);
        }

        if (treatment.IsIdentity)
        {
            return ([new MadeRow(NameOf(treatment.Tables[0].Schema), change.Kind, change.Before, change.After)], null);
        }

        var made = new List<TreatedChange>();
        try
        {
            treatment.Treat(change, committedAt, made);
        }
        catch (EvaluationException exception)
        {
            return ([], exception.Message);
        }

        return ([.. made.Select(one => new MadeRow(NameOf(one.Table.Schema), one.Change.Kind, one.Change.Before, one.Change.After))], null);
    }

    /// <summary>A column under another name is another column.</summary>
    private static string NameOf(TableSchema table) => $"{table.Name} {string.Join(',', table.Columns.Select(column => column.Name))}";

    private static string KeyOf(TableSchema form, RowChange change, (TableTreatment? Before, TableTreatment? After) both)
    {
        var isMasked = new[] { both.Before, both.After }.Any(treatment => treatment?.Hidden.Any(form.KeyOrdinals.Contains) == true);
        return isMasked ? "" : RowKey.Display(change.After.IsNone ? change.Before : change.After, form.KeyOrdinals);
    }

    /// <param name="Table">The target's table, with its columns.</param>
    /// <param name="Kind">Of the change there.</param>
    /// <param name="Before">The row before.</param>
    /// <param name="After">The row after.</param>
    private readonly record struct MadeRow(string Table, ChangeKind Kind, Row Before, Row After);
}
