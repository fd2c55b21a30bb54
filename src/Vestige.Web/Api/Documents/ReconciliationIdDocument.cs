namespace Vestige.Web.Api.Documents;

/// <summary>The id of a comparison.</summary>
public sealed record ReconciliationIdDocument(string Id);
