using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>Something that was done to a table and that no change of a row tells.</summary>
/// <param name="Table">The table, by the name under which it crosses.</param>
/// <param name="Schema">Its schema after it; null where there is no such table any more, or nothing of it is read.</param>
/// <param name="Notice">What was done.</param>
internal sealed record TableChange(TableName Table, TableSchema? Schema, SchemaNotice Notice);
