namespace Vestige.Web.Api.Documents;

/// <summary>Some versions of a source's tables, the latest noticed first.</summary>
/// <param name="Found">How many match in all.</param>
/// <param name="Versions">Those of this page, without their columns.</param>
public sealed record SchemaVersionsDocument(int Found, IReadOnlyList<SchemaVersionDocument> Versions);
