using System.Text.RegularExpressions;

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

        return name.Length > LongestName
            ? $"it has {name.Length} characters"
            : Slug().IsMatch(name) ? null : $"'{name}' has other characters";
    }

    /// <summary>The mend that goes with <see cref="NameProblem"/>.</summary>
    public const string NameMend = "Use a to z, 0 to 9 and hyphens, beginning with a letter or digit, at most 63 characters.";

    private static IEnumerable<DefinitionProblem> Problems(CrossingDefinition definition)
    {
        if (NameProblem(definition.Name) is { } name)
        {
            yield return new DefinitionProblem("name", name, NameMend);
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
            yield return new DefinitionProblem("target", $"'{definition.Target}' is also the source", "Choose another connection as target.");
        }

        for (var i = 0; i < (definition.Apply?.Count ?? 0); i++)
        {
            if (string.IsNullOrWhiteSpace(definition.Apply![i].Tables))
            {
                yield return new DefinitionProblem($"apply[{i}].tables", "there is no pattern", "Name the tables it is for, for example \"schema.*\".");
            }
        }

        if (definition.Tables?.Rules is not { Count: > 0 } rules)
        {
            yield return new DefinitionProblem("tables.rules", "there are none", "Take at least one table, for example {\"take\": \"schema.*\"}.");
            yield break;
        }

        for (var i = 0; i < rules.Count; i++)
        {
            if (string.IsNullOrEmpty(rules[i].Take) == string.IsNullOrEmpty(rules[i].Leave))
            {
                yield return new DefinitionProblem($"tables.rules[{i}]", "neither or both of take and leave", "Give exactly one of them a pattern.");
            }
        }

        if (rules.All(rule => string.IsNullOrEmpty(rule.Take)))
        {
            yield return new DefinitionProblem("tables.rules", "no rule takes anything", "Take at least one table.");
        }
    }

    [GeneratedRegex("^[a-z0-9][a-z0-9-]*$", RegexOptions.CultureInvariant, matchTimeoutMilliseconds: 1000)]
    private static partial Regex Slug();
}
