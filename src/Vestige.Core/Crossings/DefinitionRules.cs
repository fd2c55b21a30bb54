using System.Text.RegularExpressions;
using Vestige.Core.SchemaVersions;

namespace Vestige.Core.Crossings;

/// <summary>What holds for every definition, whatever the connections are. Empty when all is well.</summary>
public static partial class DefinitionRules
{
    public const int LongestName = 63;

    public static IReadOnlyList<DefinitionProblem> Check(CrossingDefinition definition)
    {
        ArgumentNullException.ThrowIfNull(definition);
        return [.. Problems(definition)];
    }

    /// <summary>Why a name cannot be used as a slug; null when it can.</summary>
    public static string? NameProblem(string? name)
    {
        if (string.IsNullOrEmpty(name))
        {
            return "there is none";
        }

        return name.Length > LongestName ? $"it has {name.Length} characters"
            : Slug().IsMatch(name) ? null
            : $"'{name}' has other characters";
    }

    /// <summary>The remedy that goes with <see cref="NameProblem"/>.</summary>
    public const string NameRemedy = "Use a to z, 0 to 9 and hyphens, beginning with a letter or digit, at most 63 characters.";

    private static IEnumerable<DefinitionProblem> Problems(CrossingDefinition definition)
    {
        // A list may hold nothing at a place where the document says null; what follows reads the entries.
        var empty = EmptyEntries(definition).ToList();
        if (empty.Count > 0)
        {
            foreach (var problem in empty)
            {
                yield return problem;
            }

            yield break;
        }

        if (NameProblem(definition.Name) is { } name)
        {
            yield return new DefinitionProblem("name", name, NameRemedy);
        }

        if (definition.Purpose != CrossingDefinition.Copy)
        {
            yield return new DefinitionProblem("purpose", $"'{definition.Purpose}'", "Only copy can be chosen so far.");
        }

        if (string.IsNullOrEmpty(definition.Source))
        {
            yield return new DefinitionProblem("source", "there is none", "Name a connection.");
        }

        if (string.IsNullOrEmpty(definition.Target))
        {
            yield return new DefinitionProblem("target", "there is none", "Name a connection.");
        }
        else if (definition.Source == definition.Target)
        {
            yield return new DefinitionProblem(
                "target",
                $"'{definition.Target}' is also the source",
                "Choose another connection as target."
            );
        }

        foreach (
            var problem in StartRules.Problems(definition)
                .Concat(ApplyProblems(definition))
                .Concat(SchemaChangeProblems(definition))
                .Concat(NamingProblems(definition.Naming))
                .Concat(TreatmentProblems(definition))
                .Concat(StructureProblems(definition))
                .Concat(RunningRules.Problems(definition))
        )
        {
            yield return problem;
        }

        if (definition.Tables?.Rules is not { Count: > 0 } rules)
        {
            yield return new DefinitionProblem(
                "tables.rules",
                "there are none",
                "Take at least one table, for example {\"take\": \"schema.*\"}."
            );
            yield break;
        }

        for (var i = 0; i < rules.Count; i++)
        {
            if (string.IsNullOrEmpty(rules[i].Take) == string.IsNullOrEmpty(rules[i].Leave))
            {
                yield return new DefinitionProblem(
                    $"tables.rules[{i}]",
                    "neither or both of take and leave",
                    "Give exactly one of them a pattern."
                );
            }
        }

        if (rules.All(rule => string.IsNullOrEmpty(rule.Take)))
        {
            yield return new DefinitionProblem("tables.rules", "no rule takes anything", "Take at least one table.");
        }
    }

    private static IEnumerable<DefinitionProblem> EmptyEntries(CrossingDefinition definition)
    {
        IEnumerable<(string Name, IEnumerable<object?>? Items)> lists =
        [
            ("tables.rules", definition.Tables?.Rules),
            ("apply", definition.Apply),
            ("schemaChanges", definition.SchemaChanges),
            ("treatment", definition.Treatment),
            ("start.tables", definition.Start?.Tables),
            ("structure", definition.Structure),
            ("naming.schemas", definition.Naming?.Schemas),
            ("naming.tables", definition.Naming?.Tables),
        ];
        return lists.SelectMany(list =>
            (list.Items ?? [])
                .Select((item, place) => (item, place))
                .Where(pair => pair.item is null)
                .Select(pair => Empty($"{list.Name}[{pair.place}]"))
        );
    }

    private static IEnumerable<DefinitionProblem> SchemaChangeProblems(CrossingDefinition definition)
    {
        for (var i = 0; i < (definition.SchemaChanges?.Count ?? 0); i++)
        {
            if (string.IsNullOrWhiteSpace(definition.SchemaChanges![i].Tables))
            {
                yield return NoPattern($"schemaChanges[{i}].tables");
            }

            foreach (var kind in (definition.SchemaChanges[i].Kinds ?? []).Except(SchemaChangeRule.AllKinds))
            {
                yield return new DefinitionProblem(
                    $"schemaChanges[{i}].kinds",
                    $"no rule is for {kind.Word()}",
                    $"Name some of {string.Join(", ", SchemaChangeRule.AllKinds.Select(one => one.Word()))}."
                );
            }

            if (definition.SchemaChanges[i] is { As: SchemaChangeAction.Reload, Kinds: not null })
            {
                yield return new DefinitionProblem(
                    $"schemaChanges[{i}].kinds",
                    "reload is for every change after which a table would wait",
                    "Remove the kinds, or choose carry, hold or leaveOut."
                );
            }

            if (
                definition.SchemaChanges[i] is { As: SchemaChangeAction.LeaveOut } rule
                && rule.Kinds?.All(kind => kind is not (SchemaChangeKind.TypeChanged or SchemaChangeKind.LabelAdded)) != true
            )
            {
                yield return new DefinitionProblem(
                    $"schemaChanges[{i}].kinds",
                    "not every change can be left out: values of another type may not fit into the column of before",
                    "Name kinds other than typeChanged and labelAdded."
                );
            }

            if (
                definition.SchemaChanges[i] is { As: SchemaChangeAction.Hold or SchemaChangeAction.Stop, Kinds: { } kinds }
                && kinds.Contains(SchemaChangeKind.ConstraintAdded)
            )
            {
                yield return new DefinitionProblem(
                    $"schemaChanges[{i}].kinds",
                    "an index or a constraint that is added holds nothing up",
                    "Choose carry or leaveOut for constraintAdded."
                );
            }

            if (definition.SchemaChanges[i].As == SchemaChangeAction.Reload && definition.Kind != StartKind.RowsThenChanges)
            {
                yield return new DefinitionProblem(
                    $"schemaChanges[{i}].as",
                    "tables are loaded again and followed, and this crossing does not do both",
                    "Choose carry or hold, or carry rows and then changes."
                );
            }
        }
    }

    private static IEnumerable<DefinitionProblem> ApplyProblems(CrossingDefinition definition)
    {
        for (var i = 0; i < (definition.Apply?.Count ?? 0); i++)
        {
            var rule = definition.Apply![i];
            if (string.IsNullOrWhiteSpace(rule.Tables))
            {
                yield return NoPattern($"apply[{i}].tables");
            }

            foreach (var (field, name) in new[] { ("validFrom", rule.ValidFrom), ("validTo", rule.ValidTo) })
            {
                if (name is not null && rule.As != ApplyMode.KeepVersions)
                {
                    yield return new DefinitionProblem(
                        $"apply[{i}].{field}",
                        "this apply mode keeps no versions",
                        "Remove it, or apply as keepVersions."
                    );
                }
            }

            if (rule.DeletedAt is not null && rule.As != ApplyMode.KeepDeleted)
            {
                yield return new DefinitionProblem(
                    $"apply[{i}].deletedAt",
                    "this apply mode keeps no deleted rows",
                    "Remove it, or apply as keepDeleted."
                );
            }
        }
    }

    private static IEnumerable<DefinitionProblem> NamingProblems(Naming? naming)
    {
        for (var i = 0; i < (naming?.Schemas?.Count ?? 0); i++)
        {
            if (string.IsNullOrEmpty(naming!.Schemas![i].To))
            {
                yield return new DefinitionProblem($"naming.schemas[{i}].to", "there is no name", "Name a schema of the target.");
            }
        }

        for (var i = 0; i < (naming?.Tables?.Count ?? 0); i++)
        {
            foreach (var (field, name) in new[] { ("table", naming!.Tables![i].Table), ("to", naming.Tables[i].To) })
            {
                if (Treatments.Names.Parse(name) is null)
                {
                    yield return new DefinitionProblem(
                        $"naming.tables[{i}].{field}",
                        $"'{name}' is not a table name",
                        "Write schema.table."
                    );
                }
            }
        }
    }

    private static IEnumerable<DefinitionProblem> TreatmentProblems(CrossingDefinition definition)
    {
        for (var i = 0; i < (definition.Treatment?.Count ?? 0); i++)
        {
            var step = definition.Treatment![i];
            foreach (
                var problem in step.Lists.SelectMany(list =>
                    list.Items.Select((item, place) => (item, place))
                        .Where(pair => pair.item is null)
                        .Select(pair => Empty($"treatment[{i}].{list.Name}[{pair.place}]"))
                )
            )
            {
                yield return problem;
            }

            if (string.IsNullOrWhiteSpace(step.Tables))
            {
                yield return NoPattern($"treatment[{i}].tables");
            }

            var set = step.Kinds.Where(kind => kind.IsSet).Select(kind => kind.Name).ToList();
            if (set.Count != 1)
            {
                yield return new DefinitionProblem(
                    $"treatment[{i}]",
                    set.Count == 0 ? "it says nothing that is to be done" : $"it says {string.Join(" and ", set)} at once",
                    $"Give each step exactly one of {string.Join(", ", step.Kinds.Select(kind => kind.Name))}."
                );
            }
        }
    }

    private static IEnumerable<DefinitionProblem> StructureProblems(CrossingDefinition definition)
    {
        for (var i = 0; i < (definition.Structure?.Count ?? 0); i++)
        {
            var statement = definition.Structure![i];
            if (Treatments.Names.Parse(statement.Table) is null)
            {
                yield return new DefinitionProblem(
                    $"structure[{i}].table",
                    $"'{statement.Table}' is not a table name",
                    "Write schema.table, by the target's names."
                );
            }

            if (string.IsNullOrWhiteSpace(statement.Run))
            {
                yield return new DefinitionProblem(
                    $"structure[{i}].run",
                    "there is no statement",
                    "Write the statement that makes the table, or remove the entry."
                );
            }

            if (definition.Structure.Take(i).Any(other => other.Table == statement.Table))
            {
                yield return new DefinitionProblem(
                    $"structure[{i}].table",
                    $"{statement.Table} is listed twice",
                    "Give one statement a table."
                );
            }
        }
    }

    private static DefinitionProblem Empty(string field) => new(field, "the entry is empty", "Say it, or remove it.");

    internal static DefinitionProblem NoPattern(string field) =>
        new(field, "there is no pattern", "Name the tables it is for, for example \"schema.*\".");

    [GeneratedRegex(@"^[a-z0-9][a-z0-9-]*\z", RegexOptions.CultureInvariant, matchTimeoutMilliseconds: 1000)]
    private static partial Regex Slug();
}
