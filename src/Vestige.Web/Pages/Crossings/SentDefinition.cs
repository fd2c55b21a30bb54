namespace Vestige.Web.Pages.Crossings;

/// <summary>A definition that was sent as text.</summary>
/// <param name="Text">The text.</param>
/// <param name="Failure">Why it was not taken; null where only its effect is asked for.</param>
/// <param name="Past">Whether it is to be tried on what was replicated.</param>
internal sealed record SentDefinition(string Text, string? Failure, bool Past = false);
