using Vestige.Core.Changes;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Measuring;

/// <summary>What was applied to one table since the worker's process started.</summary>
public sealed record TableTally(
    long Inserts,
    long Updates,
    long Deletes,
    long Truncates,
    long SchemaChanges,
    DateTimeOffset? LastChangeAt,
    ApplyCounts Unexpected
)
{
    public static TableTally None { get; } = new(0, 0, 0, 0, 0, null, default);

    public long Total => Inserts + Updates + Deletes + Truncates + SchemaChanges;

    public TableTally With(ChangeKind kind, DateTimeOffset at) =>
        kind switch
        {
            ChangeKind.Insert => this with { Inserts = Inserts + 1, LastChangeAt = at },
            ChangeKind.Update => this with { Updates = Updates + 1, LastChangeAt = at },
            ChangeKind.Delete => this with { Deletes = Deletes + 1, LastChangeAt = at },
            ChangeKind.Truncate => this with { Truncates = Truncates + 1, LastChangeAt = at },
            _ => this with { SchemaChanges = SchemaChanges + 1, LastChangeAt = at },
        };

    public TableTally Plus(TableTally other)
    {
        ArgumentNullException.ThrowIfNull(other);
        return new TableTally(
            Inserts + other.Inserts,
            Updates + other.Updates,
            Deletes + other.Deletes,
            Truncates + other.Truncates,
            SchemaChanges + other.SchemaChanges,
            other.LastChangeAt ?? LastChangeAt,
            Unexpected + other.Unexpected
        );
    }
}
