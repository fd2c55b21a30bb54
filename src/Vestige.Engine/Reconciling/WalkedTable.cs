using Vestige.Core.Schemas;

namespace Vestige.Engine.Reconciling;

/// <summary>A table that is compared by the rule of its crossing, as far as its turn depends on it.</summary>
/// <param name="Table">The source's table.</param>
/// <param name="Verdict">What comparing said of it last; null when it was not compared since its load.</param>
/// <param name="Tried">When the walk last began with it; null when it has not in this process.</param>
/// <param name="ChangedAt">When a change of it was last applied; null when none was in this process.</param>
internal sealed record WalkedTable(TableName Table, Verdict? Verdict, DateTimeOffset? Tried, DateTimeOffset? ChangedAt);
