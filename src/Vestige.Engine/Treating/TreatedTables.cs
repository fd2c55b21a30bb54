using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Treating;

/// <summary>The treatments of all tables of a crossing, and what must hold for them together.</summary>
public sealed class TreatedTables
{
    private const int NamedAtMost = 8;
    private const int TypesNamed = 16;
    private readonly List<ReadinessCheck> checks = [];
    private readonly List<TableTreatment> treatments = [];
    private readonly List<TreatmentProblem> problems = [];

    public TreatedTables(CrossingTreatment treating, IEngineTypes types, IReadOnlyList<TableDescription> tables)
    {
        ArgumentNullException.ThrowIfNull(treating);
        ArgumentNullException.ThrowIfNull(types);
        ArgumentNullException.ThrowIfNull(tables);
        foreach (var table in tables)
        {
            Take(treating, types, table);
        }

        checks.AddRange(problems.GroupBy(problem => (problem.Field, problem.Found)).Select(same => Check(same.First(), same.Count())));
        Collisions();
        TooLong(treating.TargetTypes.LongestName);
        Unmatched(treating.Definition, tables);
        Keyed();
        if (treating.CrossesEngines)
        {
            Transcribed();
        }
    }

    /// <summary>What columns of one engine are in another; and that nothing is bent to fit.</summary>
    private void Transcribed()
    {
        var pairs = treatments
            .SelectMany(treatment =>
                treatment
                    .Columns.Where(column => column.IsTranscribed)
                    .Select(column => (From: treatment.Source.Columns[column.Of].Type, To: column.Type))
            )
            .GroupBy(pair => pair)
            .OrderByDescending(group => group.Count())
            .Select(group => group.Key)
            .ToList();
        checks.Add(
            new ReadinessCheck(
                "types of two engines",
                true,
                Figures.Listed([.. pairs.Select(pair => $"{pair.From} as {pair.To}")], TypesNamed),
                "a value that does not fit its column's type is quarantined, never changed to fit",
                null,
                TimeSpan.Zero
            )
            {
                IsWarning = true,
            }
        );
    }

    /// <summary>Databases take rows; what a message would be keyed by has no say there.</summary>
    private void Keyed()
    {
        var keyed = treatments.Where(treatment => treatment.Columns.Any(column => column.MessageKeyOrdinal > 0)).ToList();
        if (keyed.Count > 0)
        {
            checks.Add(
                new ReadinessCheck(
                    "message key",
                    true,
                    $"{Figures.Listed([.. keyed.Select(KeyOf)], NamedAtMost)}; " + "this target takes rows, found by their own key",
                    "used only by targets that take messages",
                    null,
                    TimeSpan.Zero
                )
                {
                    IsWarning = true,
                }
            );
        }
    }

    private static string KeyOf(TableTreatment treatment) =>
        $"{treatment.Source.Name} by {string.Join(", ", treatment.MessageKey.Select(i => treatment.Columns[i].Name))}";

    /// <summary>One for each table without a problem, in the order of the tables.</summary>
    public IReadOnlyList<TableTreatment> Treatments => treatments;

    public IReadOnlyList<TreatmentProblem> Problems => problems;

    public IReadOnlyList<ReadinessCheck> Checks => checks;

    private static ReadinessCheck Check(TreatmentProblem problem, int tables) =>
        new(
            problem.Field,
            false,
            tables > 1 ? $"{problem.Found} (and so for {tables} tables)" : problem.Found,
            "a treatment that can be carried out",
            problem.Remedy,
            TimeSpan.Zero
        );

    private void Take(CrossingTreatment treating, IEngineTypes types, TableDescription table)
    {
        var (treatment, wrong) = treating.TryBuild(table.Schema);
        problems.AddRange(wrong);
        if (treatment is null)
        {
            return;
        }

        treatments.Add(treatment);
        if (treating.Definition.ExistingFor(table.Schema.Name) == ExistingRows.Merge && !(treatment.PassesAll && table.Schema.HasKey))
        {
            checks.Add(
                new ReadinessCheck(
                    $"merging {table.Schema.Name}",
                    false,
                    table.Schema.HasKey
                        ? "its rows are treated on the way; after an interruption those that the source no longer has could not be "
                            + "found again"
                        : "it has no key by which its rows could be merged",
                    "a table with a key, whose rows are replicated unchanged",
                    "Choose to delete the target's rows first, or remove the steps that filter, split, combine or generate values.",
                    TimeSpan.Zero
                )
            );
        }

        if (table.WholeRowsBy is { } statement && treatment.WholeRowsFor(types) is { Count: > 0 } columns)
        {
            checks.Add(
                new ReadinessCheck(
                    $"whole rows of {table.Schema.Name}",
                    false,
                    $"of a changed row the source logs its key and what is new; the treatment reads {string.Join(", ", columns)} of "
                        + "the row as it was",
                    "the whole row before each change in the log",
                    statement,
                    TimeSpan.Zero
                )
            );
        }
    }

    private void Collisions()
    {
        foreach (
            var same in treatments
                .SelectMany(treatment => treatment.Tables.Select(table => (treatment.Source.Name, Target: table.Schema.Name, table.Schema)))
                .GroupBy(pair => pair.Target)
                .Where(group => group.Count() > 1)
        )
        {
            if (same.All(pair => pair.Schema.Shared is not null))
            {
                Combined(same.Key, [.. same.Select(pair => (pair.Name, pair.Schema))]);
                continue;
            }

            checks.Add(
                new ReadinessCheck(
                    $"name {same.Key}",
                    false,
                    $"{string.Join(" and ", same.Select(pair => pair.Name).Take(NamedAtMost))} would be the same table on the target",
                    "a table of its own for each",
                    "Put the schema before the name, give one of them a name of its own, or combine them.",
                    TimeSpan.Zero
                )
            );
        }
    }

    /// <summary>Tables that go into one have the same columns there, and each another origin.</summary>
    private void Combined(TableName target, IReadOnlyList<(TableName Source, TableSchema Schema)> tables)
    {
        var (first, form) = tables[0];
        foreach (var (source, other) in tables.Skip(1))
        {
            if (form.DifferenceTo(other) is { } difference)
            {
                checks.Add(
                    new ReadinessCheck(
                        $"form of {target}",
                        false,
                        $"{first} and {source} are not of one form there: {difference}",
                        "the same columns of every table that goes into one",
                        "Leave columns out, rename or convert them, or give the table a target table of its own.",
                        TimeSpan.Zero
                    )
                );
            }
        }

        foreach (var same in tables.GroupBy(table => table.Schema.Shared!.Value).Where(group => group.Count() > 1))
        {
            checks.Add(
                new ReadinessCheck(
                    $"origin {same.Key}",
                    false,
                    $"{string.Join(" and ", same.Select(table => table.Source).Take(NamedAtMost))} would have the same origin in {target}",
                    "another origin for each table",
                    "Say by: table.",
                    TimeSpan.Zero
                )
            );
        }
    }

    private void TooLong(int? longest)
    {
        foreach (
            var name in treatments
                .SelectMany(treatment => treatment.Tables)
                .Select(table => table.Schema.Name)
                .Where(name => Names.IsTooLong(name.Name, longest) || Names.IsTooLong(name.Schema, longest))
        )
        {
            checks.Add(
                new ReadinessCheck(
                    $"name {name}",
                    false,
                    $"it is longer than the {longest} bytes that the target takes",
                    "a shorter name",
                    "Give the table a name of its own.",
                    TimeSpan.Zero
                )
            );
        }
    }

    /// <summary>A step that concerns no table is a slip of the pen more often than not.</summary>
    /// <summary>A table that was removed by name keeps its steps: a mask must be there when the table comes again.</summary>
    private static bool IsOfRemoved(CrossingDefinition definition, string pattern) =>
        definition.Tables.Rules.Any(rule => rule.Leave == pattern) && !TablePattern.IsPattern(pattern);

    private void Unmatched(CrossingDefinition definition, IReadOnlyList<TableDescription> tables)
    {
        var names = tables
            .Select(table => table.Schema.Name.ToString())
            .Concat(treatments.SelectMany(treatment => treatment.Children).Select(child => child.Treatment.Source.Name.ToString()))
            .ToList();
        for (var i = 0; i < (definition.Treatment?.Count ?? 0); i++)
        {
            var pattern = definition.Treatment![i].Tables;
            if (!names.Exists(name => TablePattern.Matches(pattern, name)) && !IsOfRemoved(definition, pattern))
            {
                var problem = new TreatmentProblem(
                    $"treatment[{i}].tables",
                    $"'{pattern}' matches no replicated table",
                    "Correct the pattern, or remove the step."
                );
                problems.Add(problem);
                checks.Add(Check(problem, 1));
            }
        }
    }
}
