using System.Text.Json;
using Vestige.Core.Connections;

namespace Vestige.Web.Connections;

/// <summary>The fields of a kind of connection on a form, with what stands in them.</summary>
/// <param name="Fields">The kind's fields.</param>
/// <param name="Values">What stands in them, by name; a field that has none shows its default.</param>
/// <param name="Prefix">Tells its elements from those of another form on the page.</param>
public sealed record SettingForm(IReadOnlyList<SettingField> Fields, IReadOnlyDictionary<string, string> Values, string Prefix)
{
    private const string NamePrefix = "setting.";

    /// <summary>The fields line by line: two that are not whole share one.</summary>
    public IEnumerable<IReadOnlyList<SettingField>> Lines
    {
        get
        {
            for (var i = 0; i < Fields.Count; i++)
            {
                var pairs = i + 1 < Fields.Count && Fields[i].Width != SettingWidth.Whole && Fields[i + 1].Width != SettingWidth.Whole;
                yield return pairs ? [Fields[i], Fields[++i]] : [Fields[i]];
            }
        }
    }

    /// <summary>What a field sends; not the bare name, so that a setting may be named as anything else on the form.</summary>
    public static string NameOf(SettingField field) => NamePrefix + field?.Name;

    public string IdOf(SettingField field) => $"{Prefix}-{field?.Name}";

    public string? ValueOf(SettingField field)
    {
        ArgumentNullException.ThrowIfNull(field);
        return Values.GetValueOrDefault(field.Name) ?? field.Default;
    }

    /// <summary>The settings as a form sends them; what was left empty is left out.</summary>
    public static Dictionary<string, string> SettingsIn(IFormCollection form, IReadOnlyList<SettingField> fields) =>
        Given(form, fields, isSecret: false);

    /// <summary>A new secret as a form sends it, as one text to encrypt; null when none of its parts was given.</summary>
    public static string? SecretIn(IFormCollection form, IReadOnlyList<SettingField> fields) =>
        Given(form, fields, isSecret: true) is { Count: > 0 } parts ? JsonSerializer.Serialize(parts) : null;

    /// <summary>Everything that a form sends as a setting, by name.</summary>
    public static Dictionary<string, string> ValuesIn(IFormCollection form)
    {
        ArgumentNullException.ThrowIfNull(form);
        return form.Where(field => field.Key.StartsWith(NamePrefix, StringComparison.Ordinal))
            .ToDictionary(field => field.Key[NamePrefix.Length..], field => field.Value.ToString().Trim());
    }

    private static Dictionary<string, string> Given(IFormCollection form, IReadOnlyList<SettingField> fields, bool isSecret) =>
        fields
            .Where(field => field.IsSecret == isSecret && !string.IsNullOrWhiteSpace(form[NameOf(field)]))
            .ToDictionary(field => field.Name, field => isSecret ? form[NameOf(field)].ToString() : form[NameOf(field)].ToString().Trim());
}
