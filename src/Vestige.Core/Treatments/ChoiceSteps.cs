using Vestige.Core.Crossings;

namespace Vestige.Core.Treatments;

/// <summary>
/// The steps of a treatment that <see cref="TableChoices"/> can say for one table: those whose pattern is the table's name, each kind at
/// most once, in the order of <see cref="Order"/>, with no other step for the table between them. In that order, every choice names the
/// columns as they are before all of them; only a split names them as they are after. Steps in another order may mean something else and
/// are left to be edited as text.
/// </summary>
public sealed class ChoiceSteps
{
    private static readonly string[] Order = ["keep", "convert", "mask", "leaveOut", "rename", "split"];

    private readonly IReadOnlyList<TreatmentStep> steps;
    private readonly string table;
    private readonly IReadOnlyList<int> own;
    private readonly int begin;

    private ChoiceSteps(IReadOnlyList<TreatmentStep> steps, string table, IReadOnlyList<int> own)
    {
        this.steps = steps;
        this.table = table;
        this.own = own;
        begin = own.Count > 0 ? own[0] : steps.Count;
    }

    /// <summary>The steps that take effect before the choices, those for other tables among them.</summary>
    public IReadOnlyList<TreatmentStep> Before => [.. steps.Take(begin)];

    /// <summary>Those of one table; null where its steps say what choices cannot.</summary>
    /// <param name="steps">All steps of the treatment.</param>
    /// <param name="table">The source's table, as <c>schema.table</c>.</param>
    public static ChoiceSteps? Of(IReadOnlyList<TreatmentStep> steps, string table)
    {
        ArgumentNullException.ThrowIfNull(steps);
        List<int> mine = [.. Enumerable.Range(0, steps.Count).Where(i => steps[i].Tables == table && Rank(steps[i]) >= 0)];
        var isInOrder = mine.Zip(mine.Skip(1)).All(pair => Rank(steps[pair.First]) < Rank(steps[pair.Second]));
        var isApart = mine.Zip(mine.Skip(1)).All(pair => !steps.Take(pair.Second).Skip(pair.First + 1).Any(IsForIt));
        return isInOrder && isApart ? new ChoiceSteps(steps, table, mine) : null;

        bool IsForIt(TreatmentStep step) => TablePattern.Matches(step.Tables, table);
    }

    /// <summary>What the steps choose; null where one names a column that is not there, or names it twice.</summary>
    /// <param name="columns">The names of the columns before the choices take effect, in order.</param>
    public TableChoices? Read(IReadOnlyList<string> columns)
    {
        ArgumentNullException.ThrowIfNull(columns);
        var leftOut = Items(step => step.LeaveOut);
        var names = Items(step => step.Rename);
        var types = Items(step => step.Convert);
        var masks = Items(step => step.Mask);
        IEnumerable<string>[] named =
        [
            leftOut,
            names.Select(item => item.Column),
            types.Select(item => item.Column),
            masks.Select(item => item.Column),
        ];
        if (named.Any(each => each.Distinct().Count() != each.Count() || each.Except(columns).Any()))
        {
            return null;
        }

        return new TableChoices(
            own.Select(i => steps[i].Keep).FirstOrDefault(keep => keep is not null),
            [.. columns.Select(Choice)],
            Items(step => step.Split)
        );

        ColumnChoice Choice(string column)
        {
            var type = types.FirstOrDefault(item => item.Column == column);
            return new ColumnChoice(
                column,
                leftOut.Contains(column),
                names.FirstOrDefault(item => item.Column == column)?.To,
                type?.To,
                type?.AllowLoss ?? false,
                masks.FirstOrDefault(item => item.Column == column)
            );
        }
    }

    /// <summary>All steps, with those of the table as the choices say. A column that is left out keeps its name.</summary>
    public IReadOnlyList<TreatmentStep> With(TableChoices choices)
    {
        ArgumentNullException.ThrowIfNull(choices);
        List<TreatmentStep> made = [];
        if (!string.IsNullOrWhiteSpace(choices.Keep))
        {
            made.Add(new TreatmentStep(table, Keep: choices.Keep));
        }

        AddAny(
            choices
                .Columns.Where(column => column.Type is not null)
                .Select(column => new ConvertedColumn(column.Column, column.Type!, column.AllowLoss)),
            list => new TreatmentStep(table, Convert: list)
        );
        AddAny(choices.Columns.Select(column => column.Mask).OfType<MaskedColumn>(), list => new TreatmentStep(table, Mask: list));
        AddAny(
            choices.Columns.Where(column => column.LeftOut).Select(column => column.Column),
            list => new TreatmentStep(table, LeaveOut: list)
        );
        AddAny(
            choices
                .Columns.Where(column => !column.LeftOut && column.Name is not null)
                .Select(column => new RenamedColumn(column.Column, column.Name!)),
            list => new TreatmentStep(table, Rename: list)
        );
        AddAny(choices.Split, list => new TreatmentStep(table, Split: list));
        return [.. steps.Take(begin), .. made, .. Enumerable.Range(0, steps.Count).Skip(begin).Except(own).Select(i => steps[i])];

        void AddAny<T>(IEnumerable<T> items, Func<IReadOnlyList<T>, TreatmentStep> step)
        {
            if (items.ToList() is { Count: > 0 } list)
            {
                made.Add(step(list));
            }
        }
    }

    private List<T> Items<T>(Func<TreatmentStep, IReadOnlyList<T>?> list) => [.. own.SelectMany(i => list(steps[i]) ?? [])];

    /// <summary>The place of a step's kind in <see cref="Order"/>; -1 where choices cannot say it.</summary>
    private static int Rank(TreatmentStep step) => Array.IndexOf(Order, step.Kinds.FirstOrDefault(kind => kind.IsSet).Name);
}
