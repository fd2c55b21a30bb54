namespace Vestige.Web.Api.Documents;

/// <summary>Where the stand-ins for webhooks and mail listen; null while one does not.</summary>
public sealed record StandInsDocument(string Webhook, string? Mail);
