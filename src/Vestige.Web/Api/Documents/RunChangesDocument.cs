namespace Vestige.Web.Api.Documents;

/// <summary>Changes that a run applied.</summary>
public sealed record RunChangesDocument(long Insert, long Update, long Delete, long Other);
