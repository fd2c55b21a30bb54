using System.Text.Json;
using System.Text.Json.Serialization;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api;

/// <summary>A connection as it is written. The secret is never read back.</summary>
public sealed record ConnectionBody(
    string Name,
    [property: KindChoices] string Kind,
    [property: JsonConverter(typeof(SettingText))] Dictionary<string, string>? Settings = null,
    [property: JsonConverter(typeof(SettingText))] Dictionary<string, string>? Secret = null
)
{
    /// <summary>The secret as one text to encrypt; null when none was given.</summary>
    [JsonIgnore]
    public string? SecretText => Secret is { Count: > 0 } ? JsonSerializer.Serialize(Secret) : null;
}
