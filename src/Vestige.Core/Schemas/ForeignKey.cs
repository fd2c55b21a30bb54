namespace Vestige.Core.Schemas;

/// <summary>A reference from <paramref name="Columns"/> of the declaring table to <paramref name="ReferencedColumns"/>.</summary>
public sealed record ForeignKey(IReadOnlyList<string> Columns, TableName References, IReadOnlyList<string> ReferencedColumns);
