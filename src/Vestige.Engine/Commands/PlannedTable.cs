using Vestige.Core.Schemas;

namespace Vestige.Engine.Commands;

/// <summary>A table as a plan sees it.</summary>
/// <param name="Source">The source's table.</param>
/// <param name="Into">The target's tables that its rows go into.</param>
/// <param name="Rows">Its rows, as estimated; null where the source has no estimate, as for a table never analyzed.</param>
/// <param name="Bytes">Its size at the source; null where unknown.</param>
/// <param name="Reason">Why it cannot cross; null when it can.</param>
public sealed record PlannedTable(TableName Source, IReadOnlyList<TableName> Into, long? Rows, long? Bytes, string? Reason);
