using Vestige.Core.Schemas;

namespace Vestige.Engine.Supervision;

/// <summary>A table as a plan sees it.</summary>
public sealed record PlannedTable(TableName Source, TableName Target, long Rows, string? Reason);
