using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Measuring;

/// <summary>One table of a crossing.</summary>
/// <param name="Name">The source's table.</param>
/// <param name="Progress">How far it is; null before its load has begun.</param>
/// <param name="Into">The target's tables that it goes into.</param>
internal sealed record ListedTable(TableName Name, TableProgress? Progress, IReadOnlyList<TableName> Into);
