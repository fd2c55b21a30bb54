namespace Vestige.Core.Treatments;

/// <summary>Why a table cannot be treated as a definition says.</summary>
/// <param name="Field">The field at fault, as <c>treatment[2].keep</c>.</param>
/// <param name="Found">What is wrong.</param>
/// <param name="Remedy">What to do.</param>
/// <param name="Place">The character at fault within the field's text, from 0; null when it is the whole.</param>
/// <param name="Length">How many characters are at fault.</param>
public sealed record TreatmentProblem(string Field, string Found, string Remedy, int? Place = null, int Length = 0);
