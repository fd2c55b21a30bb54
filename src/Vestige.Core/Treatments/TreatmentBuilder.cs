using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>Works out what a definition makes of one table, step by step.</summary>
public sealed class TreatmentBuilder
{
    private readonly CrossingDefinition definition;
    private readonly TableSchema source;
    private readonly Func<TableName, TableName> kept;
    private readonly IEngineTypes types;
    private readonly IMaskKeys keys;
    private readonly List<TreatedColumn> columns;
    private readonly List<Expression> keeps = [];
    private readonly List<TreatmentProblem> problems = [];
    private readonly RowDestinations destinations;
    private ApplyMode mode;

    private TreatmentBuilder(CrossingDefinition definition, TableSchema source, Func<TableName, TableName> kept, IEngineTypes types, IMaskKeys keys)
    {
        this.definition = definition;
        this.source = source;
        this.kept = kept;
        this.types = types;
        this.keys = keys;
        columns = [.. source.Columns.Select((column, i) => new TreatedColumn(column.Name, column.Type, types.MeaningOf(column), i, [i], column.KeyOrdinal, column.Nullable) { Of = i })];
        destinations = new RowDestinations(source, types, columns, problems, Condition);
    }

    /// <summary>The treatment of a table; or what is wrong with it.</summary>
    /// <param name="definition">What a person said.</param>
    /// <param name="source">The table's form at the source.</param>
    /// <param name="kept">The name that a table of the source would have on the target if nothing else were said.</param>
    /// <param name="types">What the types of both sides mean.</param>
    /// <param name="keys">The keys of masks.</param>
    public static (TableTreatment? Treatment, IReadOnlyList<TreatmentProblem> Problems) Build(CrossingDefinition definition, TableSchema source, Func<TableName, TableName> kept, IEngineTypes types, IMaskKeys keys)
    {
        ArgumentNullException.ThrowIfNull(definition);
        ArgumentNullException.ThrowIfNull(source);
        ArgumentNullException.ThrowIfNull(types);
        ArgumentNullException.ThrowIfNull(keys);
        var builder = new TreatmentBuilder(definition, source, kept, types, keys);
        var treatment = builder.Build();
        return (builder.problems.Count == 0 ? treatment : null, builder.problems);
    }

    private TableTreatment Build()
    {
        var name = source.Name.ToString();
        for (var i = 0; i < (definition.Treatment?.Count ?? 0); i++)
        {
            if (TablePattern.Matches(definition.Treatment![i].Tables, name))
            {
                Take(definition.Treatment[i], $"treatment[{i}]");
            }
        }

        var rule = definition.ApplyRuleOf(source.Name);
        mode = rule?.As ?? ApplyMode.Upsert;
        if (mode == ApplyMode.KeepVersions)
        {
            KeepVersions(rule!, $"apply[{definition.Apply!.ToList().IndexOf(rule!)}]");
        }

        if (mode == ApplyMode.KeepDeleted)
        {
            AddMark(rule!.DeletedAtColumn, ChangeMark.DeletedAt, $"apply[{definition.Apply!.ToList().IndexOf(rule)}].deletedAt");
            if (!source.HasKey)
            {
                problems.Add(new TreatmentProblem("apply", $"{source.Name} has no key, so a deleted row could not be found to be marked", "Give the table a key, or apply it in another manner."));
            }
        }

        Name();
        CheckColumns();
        return new TableTreatment(source, Outputs(), columns, keeps, mode, types.ValuesAreText);
    }

    /// <summary>Of the versions of a row only one holds, so the end of its time tells them apart.</summary>
    private void KeepVersions(ApplyRule rule, string field)
    {
        if (!source.HasKey)
        {
            problems.Add(new TreatmentProblem($"{field}.as", $"{source.Name} has no key, so the version before could not be found", "Give the table a key, or apply it in another manner."));
            return;
        }

        AddMark(rule.ValidFromColumn, ChangeMark.ValidFrom, $"{field}.validFrom");
        AddMark(rule.ValidToColumn, ChangeMark.ValidTo, $"{field}.validTo");
        if (columns[^1].Mark == ChangeMark.ValidTo)
        {
            columns[^1] = columns[^1] with { KeyOrdinal = columns.Max(column => column.KeyOrdinal) + 1, Nullable = false };
        }
    }

    /// <summary>Whether rows stand beside others that have what is unique at the source.</summary>
    private bool StandsBesideOthers => destinations.AreShared || mode == ApplyMode.KeepVersions;

    private void Take(TreatmentStep step, string field)
    {
        if (step.Keep is { } keep)
        {
            if (Condition(keep, $"{field}.keep") is { } condition)
            {
                keeps.Add(condition);
            }
        }

        Each(step.LeaveOut, $"{field}.leaveOut", LeaveOut);
        Each(step.Rename, $"{field}.rename", Rename);
        Each(step.Convert, $"{field}.convert", Convert);
        Each(step.Compute, $"{field}.compute", Compute);
        Each(step.Mask, $"{field}.mask", Mask);
        if (step.Split is { } tables)
        {
            destinations.Split(tables, $"{field}.split");
        }

        if (step.Combine is { } combine)
        {
            destinations.Combine(combine, $"{field}.combine");
        }

        if (step.Marks is { } marks)
        {
            AddMark(marks.Operation, ChangeMark.Operation, $"{field}.marks.operation");
            AddMark(marks.CommittedAt, ChangeMark.CommittedAt, $"{field}.marks.committedAt");
        }
    }

    private static void Each<T>(IReadOnlyList<T>? items, string field, Action<T, string> take)
    {
        for (var i = 0; i < (items?.Count ?? 0); i++)
        {
            take(items![i], $"{field}[{i}]");
        }
    }

    private Expression? Condition(string text, string field) => Parsed(text, field, condition: true);

    private Expression? Parsed(string text, string field, bool condition)
    {
        try
        {
            var known = columns.Select(column => new ExpressionColumn(column.Name, column.Type, column.Meaning) { Value = column.Make, Place = column.Source, Reads = column.Reads }).ToList();
            return condition ? Expression.ParseCondition(text, known) : Expression.Parse(text, known);
        }
        catch (ExpressionException exception)
        {
            problems.Add(new TreatmentProblem(field, $"at character {exception.Place + 1}: {exception.Message.TrimEnd('.')}", "Correct the expression there.", exception.Place, exception.Length));
            return null;
        }
    }

    private int Find(string column, string field)
    {
        var place = columns.FindIndex(candidate => candidate.Name == column);
        if (place < 0)
        {
            problems.Add(new TreatmentProblem(field, $"{source.Name} has no column {column}", $"Name one of {string.Join(", ", columns.Take(20).Select(candidate => candidate.Name))}."));
        }

        return place;
    }

    private void LeaveOut(string column, string field)
    {
        var place = Find(column, field);
        if (place < 0)
        {
            return;
        }

        if (columns[place].KeyOrdinal > 0)
        {
            problems.Add(new TreatmentProblem(field, $"{column} is in the key of {source.Name}", "Keep it: rows are found by it. A mask can hide its values."));
            return;
        }

        columns.RemoveAt(place);
    }

    private void Rename(RenamedColumn rename, string field)
    {
        var place = Find(rename.Column, $"{field}.column");
        if (place < 0)
        {
            return;
        }

        if (string.IsNullOrEmpty(rename.To))
        {
            problems.Add(new TreatmentProblem($"{field}.to", "there is no name", "Give the column a name."));
            return;
        }

        columns[place] = columns[place] with { Name = rename.To };
    }

    private void Convert(ConvertedColumn convert, string field)
    {
        var place = Find(convert.Column, $"{field}.column");
        if (place < 0)
        {
            return;
        }

        var column = columns[place];
        if (IsOrigin(column, $"{field}.column"))
        {
            return;
        }

        if (Refused(column.Type, convert.To, convert.AllowLoss) is { } change)
        {
            problems.Add(new TreatmentProblem($"{field}.to", $"{convert.Column} of {source.Name} from {column.Type} to {convert.To}: {change.Words}", MendOf(change)));
            return;
        }

        var type = types.Spelled(convert.To);
        columns[place] = column with { Type = type, Meaning = column.IsPassed ? types.MeaningOf(new Column(column.Name, type)) : column.Meaning };
    }

    /// <summary>What speaks against another type; null when nothing does, or the definition allows it.</summary>
    private TypeChange? Refused(string from, string to, bool allowLoss) => !Names.IsTypeName(to) ? new TypeChange(TypeOutcome.Impossible, "it is not the name of a type") : types.ChangeOf(from, to) is var change
        && (change.Outcome == TypeOutcome.Impossible || (change.Outcome == TypeOutcome.MayChange && !allowLoss)) ? change : null;

    private static string MendOf(TypeChange change) =>
        change.Outcome == TypeOutcome.Impossible ? "Choose another type." : "Choose a type that holds every value, or say allowLoss: true.";

    private void Compute(ComputedColumn compute, string field)
    {
        if (string.IsNullOrEmpty(compute.Column))
        {
            problems.Add(new TreatmentProblem($"{field}.column", "there is no name", "Give the column a name."));
            return;
        }

        if (Parsed(compute.As, $"{field}.as", condition: false) is not { } expression)
        {
            return;
        }

        var place = columns.FindIndex(column => column.Name == compute.Column);
        if (place >= 0 && columns[place].KeyOrdinal > 0)
        {
            problems.Add(new TreatmentProblem($"{field}.column", $"{compute.Column} is in the key of {source.Name}", "Give the computed column a name of its own."));
            return;
        }

        var made = types.TypeFor(expression.Type);
        if (compute.Type is { } type && Refused(made, type, compute.AllowLoss) is { } change)
        {
            problems.Add(new TreatmentProblem($"{field}.type", $"{compute.Column} of {source.Name}, which is {expression.Type.Word()}, into {type}: {change.Words}", MendOf(change)));
            return;
        }

        var column = new TreatedColumn(compute.Column, compute.Type is null ? made : types.Spelled(compute.Type), new ColumnMeaning(expression.Type), -1, expression.Columns, Distinct: false) { Make = expression.Run };
        if (place >= 0)
        {
            columns[place] = column with { Of = columns[place].Of, Masked = columns[place].Masked };
        }
        else
        {
            columns.Add(column);
        }
    }

    private void Mask(MaskedColumn mask, string field)
    {
        var place = Find(mask.Column, $"{field}.column");
        if (place < 0)
        {
            return;
        }

        var column = columns[place];
        if (IsOrigin(column, $"{field}.column"))
        {
            return;
        }

        var maker = new MaskMaker(mask, field, source, columns, types, keys);
        var masked = maker.Make(column);
        problems.AddRange(maker.Problems);
        if (masked is null)
        {
            return;
        }

        if (column.KeyOrdinal > 0 && !masked.Distinct)
        {
            problems.Add(new TreatmentProblem($"{field}.by", $"{mask.Column} is in the key of {source.Name}, and this mask would make rows one", "Mask a key by hash or by a pseudonym of the kind code or number."));
            return;
        }

        columns[place] = masked;
    }

    /// <summary>By its values the rows of combined tables are told apart.</summary>
    private bool IsOrigin(TreatedColumn column, string field)
    {
        if (column.IsOrigin)
        {
            problems.Add(new TreatmentProblem(field, $"{column.Name} says where each row came from", "Leave it as it is."));
        }

        return column.IsOrigin;
    }

    private void AddMark(string? name, ChangeMark mark, string field)
    {
        if (name is null)
        {
            return;
        }

        if (name.Length == 0)
        {
            problems.Add(new TreatmentProblem(field, "there is no name", "Give the column a name."));
            return;
        }

        var type = mark == ChangeMark.Operation ? ExpressionType.Text : ExpressionType.Instant;
        columns.Add(new TreatedColumn(name, types.TypeFor(type), new ColumnMeaning(type), -1, [], Mark: mark, Distinct: false));
    }

    private void Name()
    {
        if (definition.Naming is not { Case: not LetterCase.AsIs } naming)
        {
            return;
        }

        for (var i = 0; i < columns.Count; i++)
        {
            columns[i] = columns[i] with { Name = naming.Cased(columns[i].Name) };
        }
    }

    private void CheckColumns()
    {
        foreach (var same in columns.GroupBy(column => column.Name).Where(group => group.Count() > 1))
        {
            problems.Add(new TreatmentProblem("treatment", $"{source.Name} would have two columns {same.Key} on the target", "Give one of them another name."));
        }

        foreach (var column in columns.Where(column => Names.IsTooLong(column.Name, types.LongestName)))
        {
            problems.Add(new TreatmentProblem("treatment", $"the column name {column.Name} of {source.Name} is longer than the target's {types.LongestName} bytes", "Give it a shorter one."));
        }

        if (columns.Count == 0)
        {
            problems.Add(new TreatmentProblem("treatment", $"no column of {source.Name} is left", "Leave the table out by a rule."));
        }
    }

    private List<TreatedTable> Outputs() => [.. destinations.Of(TargetOf(source.Name))
        .Select(table => new TreatedTable(FormOf(table.Name), table.When))];

    private TableName TargetOf(TableName table) => definition.Naming?.NameFor(table, kept(table)) ?? kept(table);

    private TableSchema FormOf(TableName name) => new(
        name,
        [.. columns.Select(ColumnOf)],
        StandsBesideOthers ? [] : [.. source.UniqueKeys.Select(key => CarriedColumns.Of(source, columns, key.Columns)).OfType<IReadOnlyList<string>>().Select(names => new UniqueKey(names))],
        StandsBesideOthers ? [] : [.. source.ForeignKeys.Select(ReferenceOf).OfType<ForeignKey>()])
    {
        Shared = destinations.Shared,
    };

    private Column ColumnOf(TreatedColumn column)
    {
        var same = column.IsPassed && source.Columns[column.Source].Type == column.Type ? source.Columns[column.Source] : null;
        return new Column(column.Name, column.Type, column.Nullable, column.KeyOrdinal, same?.Default, Collation: same?.Collation);
    }

    /// <summary>By the target's name of the table; its columns keep the source's names.</summary>
    private ForeignKey? ReferenceOf(ForeignKey key) =>
        CarriedColumns.Of(source, columns, key.Columns) is { } names ? new ForeignKey(names, TargetOf(key.References), key.ReferencedColumns) : null;
}
