using Vestige.Core.Expressions;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>Into which tables of the target the rows of one go: its own, several by conditions, or one with those of others.</summary>
/// <param name="source">The source's table.</param>
/// <param name="types">What types mean.</param>
/// <param name="columns">The columns so far; combining adds one.</param>
/// <param name="problems">Gets what is wrong.</param>
/// <param name="condition">Understands a condition on the columns so far; null when it cannot be understood.</param>
internal sealed class RowDestinations(
    TableSchema source,
    IEngineTypes types,
    List<TreatedColumn> columns,
    List<TreatmentProblem> problems,
    Func<string, string, Expression?> condition
)
{
    private List<(TableName Name, Expression? When)>? split;
    private (TableName Into, string Origin)? combined;

    /// <summary>Whether rows of other tables go into the same one.</summary>
    public bool AreShared => combined is not null;

    /// <summary>Which rows of it are this table's; null where it is its own. Asked when the columns have their last names.</summary>
    public SharedRows? Shared => combined is { } one ? new SharedRows(columns.First(column => column.IsOrigin).Name, one.Origin) : null;

    /// <summary>The tables, each with its condition, in the order in which those are asked.</summary>
    /// <param name="own">Where rows go if nothing else was said.</param>
    public IReadOnlyList<(TableName Name, Expression? When)> Of(TableName own) => split ?? [(combined?.Into ?? own, null)];

    public void Split(IReadOnlyList<SplitTable> tables, string field)
    {
        if (split is not null || combined is not null)
        {
            problems.Add(new TreatmentProblem(field, $"{source.Name} is split or combined already", "Write all its tables into one step."));
            return;
        }

        split = [];
        for (var i = 0; i < tables.Count; i++)
        {
            var into = $"{field}[{i}].into";
            if (Names.Parse(tables[i].Into) is not { } name)
            {
                problems.Add(new TreatmentProblem(into, $"'{tables[i].Into}' is not a table name", "Write schema.table."));
                continue;
            }

            if (tables[i].When is null && i < tables.Count - 1)
            {
                problems.Add(
                    new TreatmentProblem(
                        $"{field}[{i}]",
                        "a table without a condition takes all other rows, so those behind it get none",
                        "Let it stand last."
                    )
                );
            }

            if (split.Exists(other => other.Name == name))
            {
                problems.Add(new TreatmentProblem(into, $"{name} is listed twice", "Join the two conditions with OR."));
            }

            var when = tables[i].When is { } text ? condition(text, $"{field}[{i}].when") : null;
            split.Add((name, when));
        }
    }

    public void Combine(CombinedTable combine, string field)
    {
        if (combined is not null || split is not null)
        {
            problems.Add(
                new TreatmentProblem(field, $"{source.Name} goes into other tables by another step", "Combine it once, or split it.")
            );
            return;
        }

        if (Names.Parse(combine.Into) is not { } into)
        {
            problems.Add(new TreatmentProblem($"{field}.into", $"'{combine.Into}' is not a table name", "Write schema.table."));
            return;
        }

        if (!source.HasKey)
        {
            problems.Add(
                new TreatmentProblem(
                    field,
                    $"{source.Name} has no key, so its rows cannot be distinguished from those of others",
                    "Give the table a key, or a target table of its own."
                )
            );
            return;
        }

        if (combine.Origin is "")
        {
            problems.Add(new TreatmentProblem($"{field}.origin", "there is no name", "Give the column a name."));
            return;
        }

        var origin = combine.OriginOf(source.Name);
        var value = Datum.Of(origin);
        combined = (into, origin);
        for (var i = 0; i < columns.Count; i++)
        {
            columns[i] = columns[i] with { KeyOrdinal = columns[i].KeyOrdinal > 0 ? columns[i].KeyOrdinal + 1 : 0 };
        }

        columns.Insert(
            0,
            new TreatedColumn(
                combine.OriginColumn,
                types.TypeFor(ExpressionType.Text),
                new ColumnMeaning(ExpressionType.Text),
                -1,
                [],
                KeyOrdinal: 1,
                Nullable: false
            )
            {
                IsOrigin = true,
                Make = _ => value,
            }
        );
    }
}
