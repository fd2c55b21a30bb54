using Vestige.Engine.Ports;

namespace Vestige.Web.Pages;

/// <summary>Statements that were run on a bench, and what came of them.</summary>
/// <param name="Connection">The connection.</param>
/// <param name="Statement">The statements as typed.</param>
/// <param name="Result">What they gave; null when they were refused.</param>
/// <param name="Refused">Why they were refused; null when they were not.</param>
internal sealed record RunStatement(string Connection, string Statement, BenchResult? Result, string? Refused);
