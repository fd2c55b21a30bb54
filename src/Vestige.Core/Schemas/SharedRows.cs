namespace Vestige.Core.Schemas;

/// <summary>Those rows of a table that belong to one of several sources: where a column has one value.</summary>
/// <param name="Column">A column of the key.</param>
/// <param name="Value">Its value, as text.</param>
public sealed record SharedRows(string Column, string Value);
