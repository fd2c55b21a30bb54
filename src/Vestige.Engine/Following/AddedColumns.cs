using Vestige.Core.Schemas;

namespace Vestige.Engine.Following;

/// <summary>Columns to be added to a target's table before the next row of it is written.</summary>
/// <param name="Source">The source's table that got them.</param>
/// <param name="Target">The target's table, as it is to be.</param>
/// <param name="Columns">The names of the columns on the target.</param>
internal sealed record AddedColumns(TableName Source, TableSchema Target, IReadOnlyList<string> Columns);
