namespace Vestige.Web.Api.Documents;

/// <summary>A connection; its secret is never read back.</summary>
public sealed record ConnectionDocument(string Name, string Kind, IReadOnlyDictionary<string, string> Settings, bool HasSecret);
