namespace Vestige.Core.Crossings;

/// <summary>A source's schema and the one its tables get into.</summary>
public sealed record NameOfSchema(string Schema, string To);
