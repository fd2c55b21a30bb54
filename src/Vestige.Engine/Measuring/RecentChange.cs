using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Measuring;

/// <summary>
/// One of the latest changes a crossing applied, to be found on both sides by its key; with its origin where the source got it by
/// replication. Null as time of apply where that is not known any more.
/// </summary>
public sealed record RecentChange(
    TableName Table,
    ChangeKind Kind,
    string Key,
    LogPosition Position,
    DateTimeOffset CommittedAt,
    DateTimeOffset? AppliedAt,
    string? Origin
);
