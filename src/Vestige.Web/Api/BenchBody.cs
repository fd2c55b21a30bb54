namespace Vestige.Web.Api;

/// <summary>Statements to run.</summary>
public sealed record BenchBody(string Statement);
