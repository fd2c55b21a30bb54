using Vestige.Core.Expressions;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>The tables that get the child rows of one table: first said by steps, then made once its key has its last form.</summary>
/// <param name="source">The source's table.</param>
/// <param name="types">What types mean.</param>
/// <param name="columns">The table's columns so far.</param>
/// <param name="problems">Gets what is wrong.</param>
internal sealed class ChildTables(TableSchema source, IEngineTypes types, List<TreatedColumn> columns, List<TreatmentProblem> problems)
{
    private readonly List<(ChildRows Rows, RepeatedValue Value, string Field)> said = [];

    public bool Any => said.Count > 0;

    public void Add(ChildRows rows, string field)
    {
        if (!source.HasKey)
        {
            problems.Add(
                new TreatmentProblem(field, $"{source.Name} has no key, so its child rows cannot be distinguished", "Give the table a key.")
            );
        }
        else if (columns.Find(column => column.IsPassed && source.Columns[column.Source].Name == rows.From) is not { } column)
        {
            problems.Add(
                new TreatmentProblem(
                    $"{field}.from",
                    $"{source.Name} has no column {rows.From} whose value is still as it was",
                    "Name a column of the source, and put the step before those that change the column or leave it out."
                )
            );
        }
        else if (types.RepeatOf(source.Columns[column.Source]) is not { } value)
        {
            problems.Add(
                new TreatmentProblem(
                    $"{field}.from",
                    $"{rows.From} of {source.Name} is {source.Columns[column.Source].Type}, which does not repeat",
                    "Name a column that holds a list or a JSON array."
                )
            );
        }
        else if (Names.Parse(rows.Into) is null)
        {
            problems.Add(new TreatmentProblem($"{field}.into", $"'{rows.Into}' is not a table name", "Write schema.table."));
        }
        else if (said.Exists(other => other.Rows.From == rows.From))
        {
            problems.Add(new TreatmentProblem($"{field}.from", $"the child rows of {rows.From} go into a table already", "Say it once."));
        }
        else if (Fits(rows, value, field))
        {
            said.Add((rows, value, field));
        }
    }

    /// <summary>Makes them; the treatment of a table is given by its form, its columns and its name on the target.</summary>
    public IReadOnlyList<RepeatedRows> Make(Func<TableSchema, List<TreatedColumn>, TableName, TableTreatment> build)
    {
        var made = new List<RepeatedRows>();
        foreach (var (rows, value, field) in said)
        {
            var from = source.IndexOf(rows.From);
            if (columns.Exists(column => column.Of == from && column.Masked))
            {
                problems.Add(
                    new TreatmentProblem(
                        $"{field}.from",
                        $"{rows.From} of {source.Name} is masked, and its child rows would show what it hides",
                        $"Leave {rows.From} out instead, and mask columns of {rows.NameFor(source.Name)}."
                    )
                );
                continue;
            }

            var form = FormOf(rows, value);
            var treatment = build(form, ColumnsOf(form), Names.Parse(rows.Into)!.Value);
            var read = rows.Values.Select(column => (column, TypeOf(column))).ToList();
            made.Add(
                new RepeatedRows(
                    from,
                    treatment,
                    source.Columns.Count,
                    value.ElementType is null
                        ? new JsonElements(read).Read
                        : text =>
                            [.. ListElements.Read(text).Select(element => new[] { element is null ? Datum.Null : Datum.Of(element) })],
                    value.ElementType is null ? [.. read.Select(pair => pair.Item2)] : [ExpressionType.Text],
                    types.Encoding
                )
            );
        }

        return made;
    }

    private bool Fits(ChildRows rows, RepeatedValue value, string field)
    {
        var before = problems.Count;
        for (var i = 0; i < rows.Values.Count; i++)
        {
            var column = rows.Values[i];
            if (column is null || string.IsNullOrEmpty(column.Column))
            {
                problems.Add(new TreatmentProblem($"{field}.columns[{i}].column", "there is no name", "Give the column a name."));
            }
            else if (
                column.As is { } type
                && ExpressionTypes.Named(type)
                    is not (ExpressionType.Text or ExpressionType.Integer or ExpressionType.Decimal or ExpressionType.Boolean)
            )
            {
                problems.Add(
                    new TreatmentProblem(
                        $"{field}.columns[{i}].as",
                        $"'{type}' is not a type of JSON",
                        "Choose text, integer, decimal or boolean."
                    )
                );
            }
            else if (value.ElementType is not null && (column.Field is not null || column.As is not null || rows.Values.Count > 1))
            {
                problems.Add(
                    new TreatmentProblem(
                        $"{field}.columns[{i}]",
                        $"an element of {rows.From} is one value of the type {value.ElementType}",
                        "Give one column without field and as."
                    )
                );
            }
        }

        if (rows.Values.Count == 0 || rows.Ordinal is "")
        {
            problems.Add(
                new TreatmentProblem(field, "a column has no name, or there is none", "Name the columns, or omit the list.")
            );
        }

        return problems.Count == before;
    }

    /// <summary>
    /// The parent's columns, so that what was made of its key can be made of a child row too; then the place and the values.
    /// </summary>
    private TableSchema FormOf(ChildRows rows, RepeatedValue value) =>
        new(
            rows.NameFor(source.Name),
            [
                .. source.Columns,
                new Column(
                    rows.OrdinalColumn,
                    types.TypeFor(ExpressionType.Integer),
                    Nullable: false,
                    KeyOrdinal: source.KeyOrdinals.Count + 1
                ),
                .. rows.Values.Select(column => new Column(column.Column, value.ElementType ?? types.TypeFor(TypeOf(column)))),
            ],
            [],
            []
        )
        {
            Objects = [.. source.Objects.Where(part => part.Stage == SchemaStage.Before)],
        };

    private List<TreatedColumn> ColumnsOf(TableSchema form)
    {
        var key = columns.Where(column => column.KeyOrdinal > 0).OrderBy(column => column.KeyOrdinal).ToList();
        var others = form.Columns.Select((column, i) => (column, i)).Skip(source.Columns.Count);
        return
        [
            .. key.Select((column, i) => column with { KeyOrdinal = i + 1 }),
            .. others.Select(pair => new TreatedColumn(
                pair.column.Name,
                pair.column.Type,
                types.MeaningOf(pair.column),
                pair.i,
                [pair.i],
                pair.column.KeyOrdinal > 0 ? key.Count + 1 : 0,
                pair.column.Nullable
            )
            {
                Of = pair.i,
            }),
        ];
    }

    private static ExpressionType TypeOf(ChildColumn column) =>
        column.As is { } type ? ExpressionTypes.Named(type)!.Value : ExpressionType.Text;
}
