using System.Text.Json;
using System.Text.Json.Serialization;

namespace Vestige.Web.Api;

/// <summary>A connection as it is written. The secret is never read back.</summary>
public sealed record ConnectionBody(
    string Name,
    string Kind,
    [property: JsonConverter(typeof(SettingText))] Dictionary<string, string>? Settings = null,
    [property: JsonConverter(typeof(SettingText))] Dictionary<string, string>? Secret = null)
{
    /// <summary>A password as a secret.</summary>
    public static string SecretOf(string password) => JsonSerializer.Serialize(new Dictionary<string, string> { ["password"] = password });

    /// <summary>The secret as one text to encrypt; null when none was given.</summary>
    public string? SecretText => Secret is { Count: > 0 } ? JsonSerializer.Serialize(Secret) : null;
}
