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
    private readonly ColumnSteps steps;
    private readonly RowDestinations destinations;
    private readonly ChildTables children;
    private readonly TableName? parent;
    private ApplyMode mode;
    private bool crossesEngines;

    private TreatmentBuilder(
        CrossingDefinition definition,
        TableSchema source,
        List<TreatedColumn> columns,
        Func<TableName, TableName> kept,
        IEngineTypes types,
        IMaskKeys keys,
        TableName? parent = null
    )
    {
        this.parent = parent;
        this.columns = columns;
        this.definition = definition;
        this.source = source;
        this.kept = kept;
        this.types = types;
        this.keys = keys;
        steps = new ColumnSteps(source, types, keys, columns, problems);
        destinations = new RowDestinations(source, types, columns, problems, steps.Condition);
        children = new ChildTables(source, types, columns, problems);
    }

    /// <summary>The treatment of a table; or what is wrong with it.</summary>
    /// <param name="definition">What a person said.</param>
    /// <param name="source">The table's form at the source.</param>
    /// <param name="kept">The name that a table of the source would have on the target if nothing else were said.</param>
    /// <param name="types">What the types of the source mean.</param>
    /// <param name="keys">The keys of masks.</param>
    /// <param name="into">What those of a target of another engine mean; null where both are of one.</param>
    public static (TableTreatment? Treatment, IReadOnlyList<TreatmentProblem> Problems) Build(
        CrossingDefinition definition,
        TableSchema source,
        Func<TableName, TableName> kept,
        IEngineTypes types,
        IMaskKeys keys,
        IEngineTypes? into = null
    )
    {
        ArgumentNullException.ThrowIfNull(definition);
        ArgumentNullException.ThrowIfNull(source);
        ArgumentNullException.ThrowIfNull(types);
        ArgumentNullException.ThrowIfNull(keys);
        List<TreatedColumn> passed =
        [
            .. source.Columns.Select(
                (column, i) =>
                    into is null
                        ? new TreatedColumn(column.Name, column.Type, types.MeaningOf(column), i, [i], column.KeyOrdinal, column.Nullable)
                        {
                            Of = i,
                        }
                        : TranscribedColumns.Of(column, i, types, into)
            ),
        ];
        var builder = new TreatmentBuilder(definition, source, passed, kept, into ?? types, keys) { crossesEngines = into is not null };
        var treatment = builder.Build();
        return (builder.problems.Count == 0 ? treatment : null, builder.problems);
    }

    private TableTreatment Build()
    {
        for (var i = 0; i < (definition.Treatment?.Count ?? 0); i++)
        {
            if (IsFor(definition.Treatment![i]))
            {
                Take(definition.Treatment[i], $"treatment[{i}]");
            }
        }

        var rule = definition.ApplyRuleOf(parent ?? source.Name);
        mode = rule?.As ?? ApplyMode.Upsert;
        if (mode == ApplyMode.KeepVersions)
        {
            KeepVersions(rule!, $"apply[{definition.Apply!.ToList().IndexOf(rule!)}]");
        }

        if (mode == ApplyMode.KeepDeleted)
        {
            steps.AddMark(rule!.DeletedAtColumn, SystemColumn.DeletedAt, $"apply[{definition.Apply!.ToList().IndexOf(rule)}].deletedAt");
            if (!source.HasKey)
            {
                problems.Add(
                    new TreatmentProblem(
                        "apply",
                        $"{source.Name} has no key, so a deleted row could not be found to be marked",
                        "Give the table a key, or choose another apply mode."
                    )
                );
            }
        }

        if (children.Any && (mode is ApplyMode.KeepDeleted or ApplyMode.KeepVersions || destinations.AreShared))
        {
            problems.Add(
                new TreatmentProblem(
                    "treatment",
                    $"{source.Name} is combined with others or keeps what is gone, and child rows do not go with that",
                    "Apply the table as upsert or insertOnly into tables of its own, or remove the child rows."
                )
            );
        }

        var repeated = children.Make(BuildChild);
        steps.Name(definition.Naming);
        steps.Check();
        return new TableTreatment(source, Outputs(), columns, keeps, repeated, mode, types.Encoding)
        {
            IsOfChildren = parent is not null,
            CrossesEngines = crossesEngines,
        };
    }

    /// <summary>Steps that are for the table itself are not for its child rows, whatever else their pattern matches.</summary>
    private bool IsFor(TreatmentStep step) =>
        TablePattern.Matches(step.Tables, source.Name.ToString())
        && (parent is null || !TablePattern.Matches(step.Tables, parent.Value.ToString()));

    private TableTreatment BuildChild(TableSchema form, List<TreatedColumn> its, TableName into)
    {
        var builder = new TreatmentBuilder(definition, form, its, _ => into, types, keys, source.Name);
        var treatment = builder.Build();
        problems.AddRange(builder.problems);
        return treatment;
    }

    /// <summary>Of the versions of a row only one holds, so the end of its time tells them apart.</summary>
    private void KeepVersions(ApplyRule rule, string field)
    {
        if (!source.HasKey)
        {
            problems.Add(
                new TreatmentProblem(
                    $"{field}.as",
                    $"{source.Name} has no key, so the version before could not be found",
                    "Give the table a key, or choose another apply mode."
                )
            );
            return;
        }

        steps.AddMark(rule.ValidFromColumn, SystemColumn.ValidFrom, $"{field}.validFrom");
        steps.AddMark(rule.ValidToColumn, SystemColumn.ValidTo, $"{field}.validTo");
        if (columns[^1].Mark == SystemColumn.ValidTo)
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
            if (steps.Condition(keep, $"{field}.keep") is { } condition)
            {
                keeps.Add(condition);
            }
        }

        Each(step.LeaveOut, $"{field}.leaveOut", steps.LeaveOut);
        Each(step.Rename, $"{field}.rename", steps.Rename);
        Each(step.Convert, $"{field}.convert", steps.Convert);
        Each(step.Compute, $"{field}.compute", steps.Compute);
        Each(step.Mask, $"{field}.mask", steps.Mask);
        if (step.Key is { } key)
        {
            steps.KeyMessages(key, $"{field}.key");
        }

        if (step.Split is { } tables)
        {
            destinations.Split(tables, $"{field}.split");
        }

        if (step.Children is not null && parent is not null)
        {
            problems.Add(
                new TreatmentProblem($"{field}.children", $"{source.Name} are child rows already", "Take apart only columns of tables.")
            );
        }
        else if (step.Children is not null && crossesEngines)
        {
            problems.Add(
                new TreatmentProblem(
                    $"{field}.children",
                    "child rows are made between databases of one engine only",
                    "Replicate the column unchanged."
                )
            );
        }
        else
        {
            Each(step.Children, $"{field}.children", children.Add);
        }

        if (step.Combine is not null && parent is not null)
        {
            problems.Add(new TreatmentProblem($"{field}.combine", $"{source.Name} are child rows", "Combine tables only."));
        }
        else if (step.Combine is { } combine)
        {
            destinations.Combine(combine, $"{field}.combine");
        }

        if (step.Marks is { } marks)
        {
            steps.AddMark(marks.Operation, SystemColumn.Operation, $"{field}.marks.operation");
            steps.AddMark(marks.CommittedAt, SystemColumn.CommittedAt, $"{field}.marks.committedAt");
        }
    }

    private static void Each<T>(IReadOnlyList<T>? items, string field, Action<T, string> take)
    {
        for (var i = 0; i < (items?.Count ?? 0); i++)
        {
            take(items![i], $"{field}[{i}]");
        }
    }

    private List<TreatedTable> Outputs() =>
        [.. destinations.Of(TargetOf(source.Name)).Select(table => new TreatedTable(FormOf(table.Name), table.When))];

    private TableName TargetOf(TableName table) =>
        parent is not null ? kept(table) : definition.Naming?.NameFor(table, kept(table)) ?? kept(table);

    private TableSchema FormOf(TableName name) =>
        new(
            name,
            [.. columns.Select(ColumnOf)],
            StandsBesideOthers
                ? []
                :
                [
                    .. source
                        .UniqueKeys.Select(key => CarriedColumns.Of(source, columns, key.Columns))
                        .OfType<IReadOnlyList<string>>()
                        .Select(names => new UniqueKey(names)),
                ],
            StandsBesideOthers ? [] : [.. source.ForeignKeys.Select(ReferenceOf).OfType<ForeignKey>()]
        )
        {
            Shared = destinations.Shared,
            Statement = definition.Structure?.FirstOrDefault(statement => statement.Table == name.ToString())?.Run,
        };

    private Column ColumnOf(TreatedColumn column)
    {
        var same = column.IsPassed && source.Columns[column.Source].Type == column.Type ? source.Columns[column.Source] : null;
        return new Column(column.Name, column.Type, column.Nullable, column.KeyOrdinal, same?.Default, Collation: same?.Collation);
    }

    /// <summary>By the target's name of the table; its columns keep the source's names.</summary>
    private ForeignKey? ReferenceOf(ForeignKey key) =>
        CarriedColumns.Of(source, columns, key.Columns) is { } names
            ? new ForeignKey(names, TargetOf(key.References), key.ReferencedColumns)
            : null;
}
