using Vestige.Core.Schemas;

namespace Vestige.Engine.Structures;

/// <summary>An index or a constraint that the source's table has and the target's does not.</summary>
/// <param name="Table">The target's table.</param>
/// <param name="Name">What it is called there.</param>
/// <param name="Kind">What it is, in one or two words.</param>
/// <param name="Statements">What adds it, one after the other, each in a transaction of its own.</param>
public sealed record MissingPart(TableName Table, string Name, string Kind, IReadOnlyList<string> Statements);
