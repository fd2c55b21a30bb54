namespace Vestige.Web.Api;

/// <summary>Tables to load again, as schema.table; none means all.</summary>
public sealed record ReloadBody(List<string>? Tables = null);
