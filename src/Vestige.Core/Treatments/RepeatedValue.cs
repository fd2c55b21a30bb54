namespace Vestige.Core.Treatments;

/// <summary>How a column holds several values in one.</summary>
/// <param name="ElementType">The declared type of an element of a list; null where the column holds JSON.</param>
public readonly record struct RepeatedValue(string? ElementType);
