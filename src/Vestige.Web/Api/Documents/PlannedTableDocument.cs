namespace Vestige.Web.Api.Documents;

/// <summary>A table that crosses.</summary>
public sealed record PlannedTableDocument(string Source, string Target, IReadOnlyList<string> Into, long? Rows, long? Bytes);
