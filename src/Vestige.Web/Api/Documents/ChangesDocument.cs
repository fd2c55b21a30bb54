namespace Vestige.Web.Api.Documents;

/// <summary>Changes of a table that were applied.</summary>
public sealed record ChangesDocument(long Insert, long Update, long Delete, long Truncate, long Schema);
