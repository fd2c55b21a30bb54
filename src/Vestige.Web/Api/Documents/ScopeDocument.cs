namespace Vestige.Web.Api.Documents;

/// <summary>What was compared.</summary>
public sealed record ScopeDocument(IReadOnlyList<string> Tables, string? From, string? Before, int? Sample, bool Changed);
