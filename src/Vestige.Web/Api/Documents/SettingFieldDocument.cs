using Vestige.Core.Connections;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>A setting, or a part of the secret where its type is secret; choices are empty unless its type is choice.</summary>
public sealed record SettingFieldDocument(
    string Name,
    string Label,
    [property: Choices(typeof(SettingType))] string Type,
    bool Required,
    string? Default,
    string? Help,
    long? Least,
    long? Most,
    IReadOnlyList<SettingChoiceDocument> Choices
)
{
    public static SettingFieldDocument Of(SettingField field)
    {
        ArgumentNullException.ThrowIfNull(field);
        var isNumber = field.Type == SettingType.Number;
        return new SettingFieldDocument(
            Name: field.Name,
            Label: field.Label,
            Type: field.Type.ToString().ToLowerInvariant(),
            Required: field.Required,
            Default: field.Default,
            Help: field.Help,
            Least: isNumber ? field.Least : null,
            Most: isNumber ? field.Most : null,
            Choices: [.. field.Choices.Select(choice => new SettingChoiceDocument(Value: choice.Value, Label: choice.Label))]
        );
    }
}
