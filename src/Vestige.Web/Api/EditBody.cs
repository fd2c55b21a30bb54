namespace Vestige.Web.Api;

/// <summary>Other values of a row, by column; null for NULL.</summary>
public sealed record EditBody(IReadOnlyDictionary<string, string?>? Values);
