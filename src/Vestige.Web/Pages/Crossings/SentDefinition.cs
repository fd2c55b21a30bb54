namespace Vestige.Web.Pages.Crossings;

/// <summary>A definition that was sent as text.</summary>
/// <param name="Text">The text.</param>
/// <param name="Failure">Why it was not taken; null where only its effect is asked for.</param>
internal sealed record SentDefinition(string Text, string? Failure);
