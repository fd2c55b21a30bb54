using Vestige.Core.Schemas;

namespace Vestige.Engine.Following;

/// <summary>The source's table that a target's table gets its rows from, and whether rows are there, or not, as the log says.</summary>
internal readonly record struct TableOwner(TableName Source, bool MeetsExpectations);
