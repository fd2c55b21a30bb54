namespace Vestige.Web.Api;

/// <summary>Statements for a stand-in.</summary>
public sealed record BenchBody(string Statement);
