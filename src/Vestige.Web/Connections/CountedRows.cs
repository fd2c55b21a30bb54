using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Web.Connections;

/// <summary>Rows of which a page shows the number.</summary>
/// <param name="Connection">The connection's name.</param>
/// <param name="Table">The table.</param>
/// <param name="Only">The rows that count where several crossings share the table; null for all.</param>
public readonly record struct CountedRows(string Connection, TableName Table, SharedRows? Only);
