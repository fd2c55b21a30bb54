using Vestige.Core.Crossings;

namespace Vestige.Web.Definitions;

/// <summary>What is wrong with a definition, and where in its text; null when the text does not say it anywhere.</summary>
public sealed record LocatedProblem(DefinitionProblem Problem, DefinitionLocation? Place)
{
    /// <summary>The place in words, with a colon and a space behind; empty when there is none.</summary>
    public string Where => Place is { } place ? $"line {place.Line}, column {place.Column}: " : "";
}
