using System.Globalization;
using Vestige.Core.Crossings;

namespace Vestige.Core.Connections;

/// <summary>Checks the settings of a connection against the fields of its kind.</summary>
public static class SettingRules
{
    /// <summary>What is wrong, by field; empty when nothing is.</summary>
    /// <param name="fields">The fields of the kind.</param>
    /// <param name="settings">What was given, by name.</param>
    /// <param name="secret">The parts of a new secret that were given, by name; null where the saved one is kept.</param>
    public static IReadOnlyList<DefinitionProblem> Check(
        IReadOnlyList<SettingField> fields,
        IReadOnlyDictionary<string, string> settings,
        IReadOnlyDictionary<string, string>? secret
    )
    {
        ArgumentNullException.ThrowIfNull(fields);
        ArgumentNullException.ThrowIfNull(settings);
        var problems = new List<DefinitionProblem>();
        problems.AddRange(Unknown("settings", settings, [.. fields.Where(field => !field.IsSecret)]));
        problems.AddRange(Unknown("secret", secret ?? new Dictionary<string, string>(), [.. fields.Where(field => field.IsSecret)]));
        problems.AddRange(
            fields
                .Where(field => !field.IsSecret)
                .Select(field => Problem(field, settings.GetValueOrDefault(field.Name)))
                .OfType<DefinitionProblem>()
        );
        return problems;
    }

    /// <summary>Whether a secret that was given for some settings would go elsewhere with others.</summary>
    public static bool SecretGoesElsewhere(
        IReadOnlyList<SettingField> fields,
        IReadOnlyDictionary<string, string> saved,
        IReadOnlyDictionary<string, string> changed
    ) =>
        fields.Any(field =>
            field.DirectsSecret && (saved.GetValueOrDefault(field.Name) ?? "") != (changed.GetValueOrDefault(field.Name) ?? "")
        );

    private static IEnumerable<DefinitionProblem> Unknown(
        string what,
        IReadOnlyDictionary<string, string> given,
        IReadOnlyList<SettingField> known
    ) =>
        given
            .Keys.Where(name => known.All(field => field.Name != name))
            .Select(name => new DefinitionProblem(
                $"{what}.{name}",
                "there is no such setting",
                known.Count == 0 ? "Leave it out: this kind has none." : $"Use {string.Join(", ", known.Select(field => field.Name))}."
            ));

    private static DefinitionProblem? Problem(SettingField field, string? given)
    {
        var name = $"settings.{field.Name}";
        if (string.IsNullOrWhiteSpace(given))
        {
            return field.Required ? new DefinitionProblem(name, "it is missing", $"Give the {field.Label.ToLowerInvariant()}.") : null;
        }

        return field.Type switch
        {
            SettingType.Number when !IsWithin(field, given) => new DefinitionProblem(
                name,
                $"'{given}' is not a whole number from {field.Least} to {field.Most}",
                $"Use {field.Least} to {field.Most}."
            ),
            SettingType.Choice when !field.Choices.Any(choice => string.Equals(choice.Value, given, StringComparison.OrdinalIgnoreCase)) =>
                new DefinitionProblem(name, $"'{given}' is not one of the choices", $"Use {OneOf(field.Choices)}."),
            _ => null,
        };
    }

    private static bool IsWithin(SettingField field, string given) =>
        long.TryParse(given, NumberStyles.None, CultureInfo.InvariantCulture, out var number)
        && number >= field.Least
        && number <= field.Most;

    private static string OneOf(IReadOnlyList<SettingChoice> choices) =>
        choices.Count == 1
            ? choices[0].Value
            : $"{string.Join(", ", choices.SkipLast(1).Select(choice => choice.Value))} or {choices[^1].Value}";
}
