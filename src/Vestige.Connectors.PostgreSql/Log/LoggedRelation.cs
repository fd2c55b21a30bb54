using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Log;

/// <summary>A table as the log told it.</summary>
/// <param name="Name">Its name.</param>
/// <param name="Schema">Null when its changes are not wanted.</param>
/// <param name="Number">The number of the form.</param>
/// <param name="IsKey">By column: whether the log carries it for old rows.</param>
internal sealed record LoggedRelation(TableName Name, TableSchema? Schema, int Number, IReadOnlyList<bool> IsKey);
