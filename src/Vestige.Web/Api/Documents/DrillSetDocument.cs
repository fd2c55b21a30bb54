namespace Vestige.Web.Api.Documents;

/// <summary>What was done.</summary>
public sealed record DrillSetDocument(string Done);
