namespace Vestige.Web.Api;

/// <summary>Held tables that continue, as schema.table.</summary>
public sealed record AgreeBody(List<string>? Tables = null);
