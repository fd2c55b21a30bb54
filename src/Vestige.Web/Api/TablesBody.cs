namespace Vestige.Web.Api;

/// <summary>Tables of the source that come to a crossing, as schema.table.</summary>
public sealed record TablesBody(List<string>? Tables = null);
