namespace Vestige.Core.Crossings;

/// <summary>A source's table and the name it gets on the target, each as <c>schema.table</c>.</summary>
public sealed record NameOfTable(string Table, string To);
