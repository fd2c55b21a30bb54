namespace Vestige.Web.Api.Documents;

/// <summary>An index or a constraint that the source's table has and its copy lacks.</summary>
/// <param name="Table">The target's table, as schema.table.</param>
/// <param name="Name">What it is called there.</param>
/// <param name="Kind">What it is.</param>
/// <param name="Statements">What adds it, in order.</param>
/// <param name="Building">Whether it is being built.</param>
public sealed record MissingPartDocument(string Table, string Name, string Kind, IReadOnlyList<string> Statements, bool Building);
