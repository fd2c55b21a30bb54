using System.Text.Json;
using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Treating;

/// <summary>
/// What a definition makes of the tables that cross between two systems. Safe for several threads; the treatments it makes are not.
/// </summary>
public sealed class CrossingTreatment(CrossingDefinition definition, SourceSystem source, TargetSystem target, IMaskKeys keys)
{
    public CrossingDefinition Definition => definition;

    /// <summary>The same for another definition.</summary>
    internal CrossingTreatment With(CrossingDefinition other) => new(other, source, target, keys) { HiddenByOthers = HiddenByOthers };

    /// <summary>Columns of a table on which other crossings put a mask; none where treatments are not made for showing rows.</summary>
    public Func<TableSchema, IReadOnlySet<string>>? HiddenByOthers { get; init; }

    /// <summary>
    /// Whether both sides are of two engines. A target without a catalogue takes rows as the source's engine has them.
    /// </summary>
    public bool CrossesEngines => target.Find<ICatalogue>() is { } there && source.Catalogue.Engine != there.Engine;

    /// <summary>What types of the target mean.</summary>
    public IEngineTypes TargetTypes => (target.Find<ICatalogue>() ?? source.Catalogue).Types;

    /// <summary>The treatment of a form of a table, or what is wrong with it.</summary>
    public (TableTreatment? Treatment, IReadOnlyList<TreatmentProblem> Problems) TryBuild(TableSchema form)
    {
        var built = TreatmentBuilder.Build(
            definition,
            form,
            target.Target.NameFor,
            source.Catalogue.Types,
            keys,
            CrossesEngines ? target.Catalogue.Types : null
        );
        if (built.Treatment is { } treatment && HiddenByOthers is not null)
        {
            treatment.HiddenByOthers = HiddenByOthers(form);
        }

        return built;
    }

    /// <summary>The treatment of a form of a table; throws <see cref="PortException"/> when there is none.</summary>
    public TableTreatment Build(TableSchema form)
    {
        ArgumentNullException.ThrowIfNull(form);
        var (treatment, problems) = TryBuild(form);
        return treatment
            ?? throw new PortException($"{form.Name} cannot be treated as the definition says: {problems[0].Found}.")
            {
                Remedy = problems[0].Remedy,
            };
    }

    /// <summary>
    /// A text that is the same as long as the definition makes the same of a table: the steps that are for it, its names and the
    /// way in which it is applied.
    /// </summary>
    public string PrintOf(TableName table)
    {
        var name = table.ToString();
        return JsonSerializer.Serialize(
            new
            {
                Steps = definition
                    .Treatment?.Where(step => step.Key is null && TablePattern.Matches(step.Tables, name))
                    .Select(step => step with { Tables = "" })
                    ?? [],
                ChildSteps = ChildrenOf(definition, name)
                    .SelectMany(child => definition.Treatment!.Where(step => IsForChild(step, table, child))),
                Names = TargetsOf(table).Select(target => target.ToString()),
                Case = definition.Naming?.Case ?? LetterCase.AsIs,
                Rule = definition.ApplyRuleOf(table) is { } rule && rule.As != ApplyMode.Upsert ? rule with { Tables = "" } : null,
            }
        );
    }

    /// <summary>
    /// Whether rows of a table can be replaced as a whole by those that it has at the source now: they go into one table of the target that
    /// holds nothing else, neither rows of others nor what the source does not have any more.
    /// </summary>
    public bool IsReplaceable(TableName table) =>
        target.Find<IRowReplacement>() is not null
        && TargetsOf(table).Count == 1
        && SharedOf(table) is null
        && definition.AppliedAs(table) is ApplyMode.Upsert or ApplyMode.InsertOnly
        && definition.ExistingFor(table) != ExistingRows.Merge;

    /// <summary>
    /// Whether a step puts a mask on columns of a table: then columns that it gets are not shown before a person has seen them.
    /// </summary>
    public bool IsMasked(TableName table)
    {
        var name = table.ToString();
        return definition.Treatment?.Any(step => step.Mask is { Count: > 0 } && TablePattern.Matches(step.Tables, name)) == true;
    }

    /// <summary>The target's tables that belong to the crossing, by what the target knows of it.</summary>
    public IReadOnlySet<TableName> OwnTables(TargetProgress progress)
    {
        ArgumentNullException.ThrowIfNull(progress);
        return progress.Tables.SelectMany(table => table.IntoTables ?? [target.Target.NameFor(table.Table)]).ToHashSet();
    }

    /// <summary>What tables that are there already mean, by the target's table; where several go into one, what does least.</summary>
    public IReadOnlyDictionary<TableName, ExistingRows> ExistingOf(IEnumerable<TableTreatment> treatments) =>
        treatments
            .SelectMany(treatment =>
                treatment.Tables.Select(table => (table.Schema.Name, Existing: definition.ExistingFor(treatment.Source.Name)))
            )
            .GroupBy(pair => pair.Name, pair => pair.Existing)
            .ToDictionary(group => group.Key, group => group.Min());

    /// <summary>The target's tables that a source's table goes into, as far as the definition alone tells.</summary>
    public IReadOnlyList<TableName> TargetsOf(TableName table) => TargetsOf(definition, target, table);

    /// <summary>The rows that are a table's own, in a target's table that others go into as well; null where it goes alone.</summary>
    public SharedRows? SharedOf(TableName table)
    {
        var name = table.ToString();
        var combine = definition
            .Treatment?.LastOrDefault(step => step.Combine is not null && TablePattern.Matches(step.Tables, name))
            ?.Combine;
        return combine is null
            ? null
            : new SharedRows(definition.Naming?.Cased(combine.OriginColumn) ?? combine.OriginColumn, combine.OriginOf(table));
    }

    /// <summary>The same, without anything else being known.</summary>
    public static IReadOnlyList<TableName> TargetsOf(CrossingDefinition definition, TargetSystem target, TableName table) =>
        [.. RowTargetsOf(definition, target, table), .. ChildTargetsOf(definition, table)];

    /// <summary>Those that a source's rows themselves go into, without their child rows.</summary>
    public IReadOnlyList<TableName> RowTargetsOf(TableName table) => RowTargetsOf(definition, target, table);

    /// <summary>The target's tables that the child rows of a table go into.</summary>
    public static IReadOnlyList<TableName> ChildTargetsOf(CrossingDefinition definition, TableName table)
    {
        ArgumentNullException.ThrowIfNull(definition);
        return [.. ChildrenOf(definition, table.ToString()).Select(child => Names.Parse(child.Into)).OfType<TableName>()];
    }

    /// <summary>Whether a step is for the child rows of a table.</summary>
    public static bool IsForChild(TreatmentStep step, TableName table, ChildRows child)
    {
        ArgumentNullException.ThrowIfNull(step);
        ArgumentNullException.ThrowIfNull(child);
        return TablePattern.Matches(step.Tables, child.NameFor(table).ToString()) && !TablePattern.Matches(step.Tables, table.ToString());
    }

    private static IEnumerable<ChildRows> ChildrenOf(CrossingDefinition definition, string table) =>
        (definition.Treatment ?? [])
            .Where(step => step.Children is not null && TablePattern.Matches(step.Tables, table))
            .SelectMany(step => step.Children!);

    private static IReadOnlyList<TableName> RowTargetsOf(CrossingDefinition definition, TargetSystem target, TableName table)
    {
        ArgumentNullException.ThrowIfNull(definition);
        ArgumentNullException.ThrowIfNull(target);
        var name = table.ToString();
        var step = definition.Treatment?.LastOrDefault(step =>
            (step.Split is not null || step.Combine is not null) && TablePattern.Matches(step.Tables, name)
        );
        if (step?.Combine is { } combine && Names.Parse(combine.Into) is { } into)
        {
            return [into];
        }

        var parts = step?.Split?.Select(part => Names.Parse(part.Into)).OfType<TableName>().ToList() ?? [];
        return parts.Count > 0 ? parts : [definition.Naming?.NameFor(table, target.Target.NameFor(table)) ?? target.Target.NameFor(table)];
    }
}
