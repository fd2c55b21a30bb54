namespace Vestige.Core.Crossings;

/// <summary>What is wrong with a definition: the field, what was found, and what to do.</summary>
public sealed record DefinitionProblem(string Field, string Found, string Remedy);
