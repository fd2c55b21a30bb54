namespace Vestige.Web.Api.Documents;

/// <summary>What is wrong with one field of a definition; line and column only where it was sent as YAML.</summary>
public sealed record FieldProblemDocument(string Field, string Found, string Remedy, int? Line, int? Column);
