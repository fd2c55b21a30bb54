namespace Vestige.Web.Definitions;

/// <summary>A line of two compared texts.</summary>
/// <param name="Mark"><c>+</c> for one that came, <c>−</c> for one that went, a space for one in both.</param>
/// <param name="Text">The line.</param>
public readonly record struct ComparedLine(char Mark, string Text);
