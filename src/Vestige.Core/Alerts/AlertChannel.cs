using System.Text.Json.Serialization;

namespace Vestige.Core.Alerts;

/// <summary>A way on which alerts are told.</summary>
/// <param name="Name">Its name, a slug.</param>
/// <param name="Kind"><see cref="Webhook"/> or <see cref="Email"/>.</param>
/// <param name="Url">Of a webhook.</param>
/// <param name="Host">Of the mail server.</param>
/// <param name="Port">Of the mail server.</param>
/// <param name="Tls">Whether the connection to the mail server must be encrypted from the beginning or by STARTTLS.</param>
/// <param name="User">By whom one signs in at the mail server; null where one does not.</param>
/// <param name="From">The sender's address.</param>
/// <param name="To">The addresses told.</param>
public sealed record AlertChannel(
    string Name,
    string Kind,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Url = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Host = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] int? Port = null,
    bool Tls = true,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? User = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? From = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<string>? To = null
)
{
    public const string Webhook = "webhook";
    public const string Email = "email";
}
