namespace Vestige.Core.Schemas;

/// <summary>Columns whose values together must differ from row to row, besides the primary key.</summary>
public sealed record UniqueKey(IReadOnlyList<string> Columns);
