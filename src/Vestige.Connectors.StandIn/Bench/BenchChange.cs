using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Connectors.StandIn.Bench;

/// <summary>One row that a statement changed.</summary>
public sealed record BenchChange(TableName Table, ChangeKind Kind, string Key);
