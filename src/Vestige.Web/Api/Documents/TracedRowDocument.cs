namespace Vestige.Web.Api.Documents;

/// <summary>What a crossing makes of a change.</summary>
public sealed record TracedRowDocument(string Table, string Mark, IReadOnlyDictionary<string, string?>? Row);
