using Vestige.Core.Folding;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Connectors.PostgreSql.Targets;

/// <summary>A way of writing the net effects of a batch.</summary>
internal interface IBatchWriter
{
    /// <summary>Writes them; tables come parents first. Returns what was met against expectation.</summary>
    Task<IReadOnlyDictionary<TableName, ApplyCounts>> WriteAsync(IReadOnlyList<FoldedTable> tables, CancellationToken cancellation);
}
