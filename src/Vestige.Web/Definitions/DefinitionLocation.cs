namespace Vestige.Web.Definitions;

/// <summary>A place in a definition's text.</summary>
/// <param name="Line">From 1.</param>
/// <param name="Column">From 1, in characters.</param>
public readonly record struct DefinitionLocation(int Line, int Column);
