namespace Vestige.Web.Api.Documents;

/// <summary>A column of a table.</summary>
public sealed record ColumnDocument(string Name, string Type, bool Nullable, bool Crosses, string? Reason);
