using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>Takes one table's columns from step to step.</summary>
/// <param name="source">The source's table.</param>
/// <param name="types">What types mean.</param>
/// <param name="keys">The keys of masks.</param>
/// <param name="columns">The columns so far; steps change them.</param>
/// <param name="problems">Gets what is wrong.</param>
internal sealed class ColumnSteps(
    TableSchema source,
    IEngineTypes types,
    IMaskKeys keys,
    List<TreatedColumn> columns,
    List<TreatmentProblem> problems
)
{
    public Expression? Condition(string text, string field) => Parsed(text, field, condition: true);

    private Expression? Parsed(string text, string field, bool condition)
    {
        try
        {
            var known = columns
                .Select(column => new ExpressionColumn(column.Name, column.Type, column.Meaning)
                {
                    Value = column.Make,
                    Ordinal = column.Source,
                    Reads = column.Reads,
                })
                .ToList();
            return condition ? Expression.ParseCondition(text, known) : Expression.Parse(text, known);
        }
        catch (ExpressionException exception)
        {
            problems.Add(
                new TreatmentProblem(
                    field,
                    $"at character {exception.Place + 1}: {exception.Message.TrimEnd('.')}",
                    "Correct the expression there.",
                    exception.Place,
                    exception.Length
                )
            );
            return null;
        }
    }

    private int Find(string column, string field)
    {
        var ordinal = columns.FindIndex(candidate => candidate.Name == column);
        if (ordinal < 0)
        {
            problems.Add(
                new TreatmentProblem(
                    field,
                    $"{source.Name} has no column {column}",
                    $"Name one of {string.Join(", ", columns.Take(20).Select(candidate => candidate.Name))}."
                )
            );
        }

        return ordinal;
    }

    public void LeaveOut(string column, string field)
    {
        var ordinal = Find(column, field);
        if (ordinal < 0)
        {
            return;
        }

        if (columns[ordinal].KeyOrdinal > 0)
        {
            problems.Add(
                new TreatmentProblem(
                    field,
                    $"{column} is in the key of {source.Name}",
                    "Keep it: rows are found by it. A mask can hide its values."
                )
            );
            return;
        }

        if (columns[ordinal].MessageKeyOrdinal > 0)
        {
            problems.Add(
                new TreatmentProblem(field, $"messages of {source.Name} are keyed by {column}", "Keep it, or choose another key.")
            );
            return;
        }

        columns.RemoveAt(ordinal);
    }

    /// <summary>By the columns as they are on the target; what steps further down make of them is what the key has.</summary>
    public void KeyMessages(IReadOnlyList<string> names, string field)
    {
        if (names.Count == 0 || columns.Exists(column => column.MessageKeyOrdinal > 0))
        {
            problems.Add(
                new TreatmentProblem(
                    field,
                    names.Count == 0 ? "there is no column" : $"messages of {source.Name} have a key already",
                    "Name all columns of the key in one step."
                )
            );
            return;
        }

        for (var i = 0; i < names.Count; i++)
        {
            var ordinal = Find(names[i], $"{field}[{i}]");
            if (ordinal >= 0)
            {
                columns[ordinal] = columns[ordinal] with { MessageKeyOrdinal = i + 1 };
            }
        }
    }

    public void Rename(RenamedColumn rename, string field)
    {
        var ordinal = Find(rename.Column, $"{field}.column");
        if (ordinal < 0)
        {
            return;
        }

        if (string.IsNullOrEmpty(rename.To))
        {
            problems.Add(new TreatmentProblem($"{field}.to", "there is no name", "Give the column a name."));
            return;
        }

        columns[ordinal] = columns[ordinal] with { Name = rename.To };
    }

    public void Convert(ConvertedColumn convert, string field)
    {
        var ordinal = Find(convert.Column, $"{field}.column");
        if (ordinal < 0)
        {
            return;
        }

        var column = columns[ordinal];
        if (IsOrigin(column, $"{field}.column"))
        {
            return;
        }

        if (Refused(column.Type, convert.To, convert.AllowLoss) is { } change)
        {
            problems.Add(
                new TreatmentProblem(
                    $"{field}.to",
                    $"{convert.Column} of {source.Name} from {column.Type} to {convert.To}: {change.Words}",
                    RemedyOf(change)
                )
            );
            return;
        }

        var type = types.Spelled(convert.To);
        columns[ordinal] = column with
        {
            Transcribed = null,
            ConvertedFrom = column.ConvertedFrom ?? column.Type,
            Type = type,
            Meaning = column.IsPassed ? types.MeaningOf(new Column(column.Name, type)) : column.Meaning,
        };
    }

    /// <summary>What speaks against another type; null when nothing does, or the definition allows it.</summary>
    private TypeChange? Refused(string from, string to, bool allowLoss) =>
        !Names.IsTypeName(to) ? new TypeChange(TypeOutcome.Impossible, "it is not the name of a type")
        : types.ChangeOf(from, to) is var change
        && (change.Outcome == TypeOutcome.Impossible || (change.Outcome == TypeOutcome.MayChange && !allowLoss))
            ? change
        : null;

    private static string RemedyOf(TypeChange change) =>
        change.Outcome == TypeOutcome.Impossible ? "Choose another type." : "Choose a type that holds every value, or say allowLoss: true.";

    public void Compute(ComputedColumn compute, string field)
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

        var ordinal = columns.FindIndex(column => column.Name == compute.Column);
        if (ordinal >= 0 && columns[ordinal].KeyOrdinal > 0)
        {
            problems.Add(
                new TreatmentProblem(
                    $"{field}.column",
                    $"{compute.Column} is in the key of {source.Name}",
                    "Give the computed column a name of its own."
                )
            );
            return;
        }

        var made = types.TypeFor(expression.Type);
        if (compute.Type is { } type && Refused(made, type, compute.AllowLoss) is { } change)
        {
            problems.Add(
                new TreatmentProblem(
                    $"{field}.type",
                    $"{compute.Column} of {source.Name}, which is {expression.Type.Word()}, into {type}: {change.Words}",
                    RemedyOf(change)
                )
            );
            return;
        }

        var column = new TreatedColumn(
            compute.Column,
            compute.Type is null ? made : types.Spelled(compute.Type),
            new ColumnMeaning(expression.Type),
            -1,
            expression.Columns,
            Distinct: false
        )
        {
            Make = expression.Run,
            ConvertedFrom = compute.Type is null ? null : made,
        };
        if (ordinal >= 0)
        {
            columns[ordinal] = column with { Of = columns[ordinal].Of, Masked = columns[ordinal].Masked };
        }
        else
        {
            columns.Add(column);
        }
    }

    public void Mask(MaskedColumn mask, string field)
    {
        var ordinal = Find(mask.Column, $"{field}.column");
        if (ordinal < 0)
        {
            return;
        }

        var column = columns[ordinal];
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
            problems.Add(
                new TreatmentProblem(
                    $"{field}.by",
                    $"{mask.Column} is in the key of {source.Name}, and this mask would make rows one",
                    "Mask a key by hash or by a pseudonym of the kind code or number."
                )
            );
            return;
        }

        columns[ordinal] = masked;
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

    public void AddMark(string? name, SystemColumn mark, string field)
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

        var type = mark == SystemColumn.Operation ? ExpressionType.Text : ExpressionType.Instant;
        columns.Add(new TreatedColumn(name, types.TypeFor(type), new ColumnMeaning(type), -1, [], Mark: mark, Distinct: false));
    }

    public void Name(Naming? naming)
    {
        if (naming is null or { Case: LetterCase.AsIs })
        {
            return;
        }

        for (var i = 0; i < columns.Count; i++)
        {
            columns[i] = columns[i] with { Name = naming.Cased(columns[i].Name) };
        }
    }

    public void Check()
    {
        foreach (var same in columns.GroupBy(column => column.Name).Where(group => group.Count() > 1))
        {
            problems.Add(
                new TreatmentProblem(
                    "treatment",
                    $"{source.Name} would have two columns {same.Key} on the target",
                    "Give one of them another name."
                )
            );
        }

        foreach (var column in columns.Where(column => Names.IsTooLong(column.Name, types.LongestName)))
        {
            problems.Add(
                new TreatmentProblem(
                    "treatment",
                    $"the column name {column.Name} of {source.Name} is longer than the target's {types.LongestName} bytes",
                    "Give it a shorter one."
                )
            );
        }

        foreach (var column in columns.Where(column => column.HasNoTypeThere))
        {
            problems.Add(
                new TreatmentProblem(
                    "treatment",
                    $"{column.Name} of {source.Name} has no type, and its values may be of any",
                    "Declare its type at the source, or leave the column out."
                )
            );
        }

        foreach (var column in columns.Where(column => column is { IsTranscribed: true, Distinct: false, KeyOrdinal: > 0 }))
        {
            problems.Add(
                new TreatmentProblem(
                    "treatment",
                    $"{column.Name} is in the key of {source.Name}, and two texts that are different there are one "
                        + $"{column.Meaning.Type.Word()} on the target",
                    "Hold it as a text at the source, or leave the table out."
                )
            );
        }

        if (columns.Count == 0)
        {
            problems.Add(new TreatmentProblem("treatment", $"no column of {source.Name} is left", "Leave the table out by a rule."));
        }
    }
}
