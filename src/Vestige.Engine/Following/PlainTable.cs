using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Core.Treatments;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Following;

/// <summary>
/// A form of a source's table whose rows go into one table that holds nothing else, as they are or with columns renamed, left out,
/// converted or masked; and what that table is.
/// </summary>
internal sealed class PlainTable
{
    private readonly TableTreatment treatment;

    private PlainTable(TableTreatment treatment, TableSchema schema) => (this.treatment, Schema) = (treatment, schema);

    /// <summary>
    /// The target's table. Its columns have the numbers of the source's from which they come; one that is made, a number of its own.
    /// </summary>
    public TableSchema Schema { get; }

    /// <summary>Null where it is not like that.</summary>
    public static PlainTable? Of(CrossingTreatment treating, TableSchema form)
    {
        var (treatment, problems) = treating.TryBuild(form);
        return
            problems.Count == 0
            && treatment is { Tables: [{ Schema: { Statement: null, Shared: null } table }], Children.Count: 0 }
            && treatment.Mode is ApplyMode.Upsert or ApplyMode.InsertOnly
            && Numbered(treatment, table) is var numbered
            && numbered.Columns.Where(column => column.Id is not null).DistinctBy(column => column.Id).Count()
                == numbered.Columns.Count(column => column.Id is not null)
            ? new PlainTable(treatment, numbered)
            : null;
    }

    /// <summary>What makes it another form; or why that cannot be done.</summary>
    /// <param name="now">The other form.</param>
    /// <param name="steps">What was done to the source's table.</param>
    /// <param name="isExact">Whether rows that were there have the default of an added column in it.</param>
    /// <param name="crossesEngines">Whether the target is of another engine.</param>
    public (SchemaEdit? Edit, string Why) EditTo(PlainTable now, IReadOnlyList<SchemaChange> steps, bool isExact, bool crossesEngines)
    {
        if (steps.Select(step => Obstacle(now, step, isExact, crossesEngines)).FirstOrDefault(why => why is not null) is { } obstacle)
        {
            return (null, obstacle);
        }

        var changes = SchemaComparison.Between(Schema, now.Schema).Where(change => !change.KeepsRows).ToList();
        if (changes.Count > 0 && SchemaComparison.Steps(Schema, now.Schema).Count(step => !step.KeepsRows) != changes.Count)
        {
            return (null, "The target's table would change in more than that");
        }

        return (
            new SchemaEdit(
                Schema,
                now.Filled(steps, isExact),
                [
                    .. steps.Where(step => IsOfConstraint(step) && !crossesEngines),
                    .. changes,
                    .. steps.Where(IsOfColumn).SelectMany(now.OnTarget),
                    .. steps.Where(step => step.TakesRows),
                ]
            ),
            ""
        );
    }

    /// <summary>
    /// What makes a column take NULL that holds the values of one of the source's as they are, which takes none; null for any other. With
    /// rows that have NULL there the source has told that it took it.
    /// </summary>
    public SchemaEdit? EditToTakeNull(string column) =>
        treatment.Columns.Any(treated =>
            treated.Name == column && treated.IsPassed && !treatment.Source.Columns[treated.Source].Nullable
        )
            ? new SchemaEdit(Schema, Schema, [new SchemaChange(SchemaChangeKind.NullabilityChanged, column, "NOT NULL", "NULL")])
            : null;

    /// <summary>A constraint has the same name on a target of the same engine.</summary>
    private static bool IsOfConstraint(SchemaChange step) =>
        step.Kind is SchemaChangeKind.ConstraintDropped or SchemaChangeKind.ConstraintRenamed;

    private static bool IsOfColumn(SchemaChange step) => step.KeepsRows && !IsOfConstraint(step);

    private string? Obstacle(PlainTable now, SchemaChange step, bool isExact, bool crossesEngines) =>
        step.Kind switch
        {
            SchemaChangeKind.ColumnAdded when treatment.Hidden.Count > 0 || now.treatment.Hidden.Count > 0 =>
                "Columns of the table are masked, and a new one may hold what must not be seen",
            SchemaChangeKind.ColumnAdded
                when now.ValueOf(step.Subject, isExact) is not null && (crossesEngines || !now.Passes(step.Subject)) =>
                $"Rows have a value in {step.Subject} that is not the same on the target",
            SchemaChangeKind.ColumnRenamed when treatment.Hidden.Contains(treatment.Source.IndexOf(step.Before!)) =>
                $"Another crossing masks column {step.Before}",
            SchemaChangeKind.PartDetached when crossesEngines => "The target is of another engine",
            SchemaChangeKind.PartDetached when now.NotAlikeIn(step.Before!) is { } other => $"Column {other} is not the same on the target",
            SchemaChangeKind.TypeChanged when !now.Passes(step.Subject) => $"Column {step.Subject} has another type on the target",
            _ => null,
        };

    /// <summary>What rows that were there have in a column that was added; null for NULL.</summary>
    private string? ValueOf(string column, bool isExact)
    {
        var found = treatment.Source.Columns[treatment.Source.IndexOf(column)];
        return found.Missing ?? (isExact ? found.Default : null);
    }

    /// <summary>Whether the target has the values of a source's column as they are, in a column of the same type, or not at all.</summary>
    private bool Passes(string column) =>
        TargetsOf(column).All(target => target.IsPassed && target.Type == treatment.Source.Columns[target.Source].Type);

    /// <summary>
    /// A column that a condition may name and that the target does not have with the same name and values; null where there is none.
    /// </summary>
    private string? NotAlikeIn(string condition) =>
        treatment
            .Source.Columns.Select(column => column.Name)
            .FirstOrDefault(column =>
                condition.Contains(column.Replace("\"", "\"\"", StringComparison.Ordinal), StringComparison.Ordinal)
                && !(Passes(column) && TargetsOf(column).Any(target => target.Name == column))
            );

    private IEnumerable<TreatedColumn> TargetsOf(string column)
    {
        var ordinal = treatment.Source.IndexOf(column);
        return treatment.Columns.Where(target => target.Of == ordinal || target.Source == ordinal);
    }

    /// <summary>A change of what a column takes or has by itself, as one of the target's columns with the same values.</summary>
    private IEnumerable<SchemaChange> OnTarget(SchemaChange step) =>
        step.Kind == SchemaChangeKind.NullabilityChanged || Passes(step.Subject)
            ? TargetsOf(step.Subject).Where(target => target.IsKept).Select(target => step with { Subject = target.Name })
            : [];

    /// <summary>With the values that added columns have in the rows that are there.</summary>
    private TableSchema Filled(IReadOnlyList<SchemaChange> steps, bool isExact)
    {
        var values = steps
            .Where(step => step.Kind == SchemaChangeKind.ColumnAdded)
            .SelectMany(step => TargetsOf(step.Subject).Select(target => (target.Name, Value: ValueOf(step.Subject, isExact))))
            .DistinctBy(pair => pair.Name)
            .ToDictionary(pair => pair.Name, pair => pair.Value);
        return Schema with
        {
            Columns = [.. Schema.Columns.Select(column => column with { Missing = values.GetValueOrDefault(column.Name) })],
        };
    }

    private static TableSchema Numbered(TableTreatment treatment, TableSchema table) =>
        table with
        {
            Incarnation = null,
            Stamp = null,
            Columns =
            [
                .. table.Columns.Zip(
                    treatment.Columns,
                    (column, treated) =>
                        column with
                        {
                            Id = treated.Of >= 0 ? treatment.Source.Columns[treated.Of].Id : NumberOf(treated.Name),
                        }
                ),
            ],
        };

    /// <summary>A number for a column that is made: below those of databases, and the same for the same name.</summary>
    private static int NumberOf(string name)
    {
        var hash = 17;
        foreach (var letter in name)
        {
            hash = unchecked((hash * 31) + letter);
        }

        return hash | int.MinValue;
    }
}
