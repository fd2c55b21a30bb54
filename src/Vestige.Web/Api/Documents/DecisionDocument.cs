namespace Vestige.Web.Api.Documents;

/// <summary>How many changes a decision reached.</summary>
public sealed record DecisionDocument(string Name, int Changes);
