using System.Collections.Immutable;
using Vestige.Core.Changes;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Toys.TablesInMemory;

/// <summary>A table as it is in one moment: its rows and how far it is. Replaced as a whole by each step.</summary>
/// <param name="Rows">By key.</param>
/// <param name="Progress">The progress of the source's table.</param>
public sealed record TableInMemory(ImmutableDictionary<RowKey, Row> Rows, TableProgress Progress);
