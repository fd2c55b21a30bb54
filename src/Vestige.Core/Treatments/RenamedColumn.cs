namespace Vestige.Core.Treatments;

/// <summary>A column and the name it gets on the target.</summary>
public sealed record RenamedColumn(string Column, string To);
