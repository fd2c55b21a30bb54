namespace Vestige.Web.Api.Documents;

/// <summary>What is wrong in a treatment, and where in its text: the number of the first character, and how many.</summary>
public sealed record PlanProblemDocument(string Field, string Found, string Remedy, int? Character, int Length);
