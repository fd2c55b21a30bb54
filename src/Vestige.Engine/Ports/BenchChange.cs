using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>One row that a statement changed.</summary>
public sealed record BenchChange(TableName Table, ChangeKind Kind, string Key);
