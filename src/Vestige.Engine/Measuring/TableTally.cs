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
