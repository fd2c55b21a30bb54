using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Core.SchemaVersions;

/// <summary>The schema of one table of a source from a position of its log on, until the next version of that table.</summary>
/// <param name="Table">The table, by the name it has at the source.</param>
/// <param name="From">Changes of rows that stand after this position are of this version.</param>
/// <param name="Log">The log of <paramref name="From"/>.</param>
/// <param name="Certainty">How that is known.</param>
/// <param name="Schema">The schema; null where there is no such table from there on.</param>
/// <param name="What">What was done, in the source's words or ours, as the end of a sentence; empty for the first version.</param>
/// <param name="NoticedAt">When Vestige noticed it.</param>
public sealed record SchemaVersion(
    TableName Table,
    LogPosition From,
    LogIdentity Log,
    VersionCertainty Certainty,
    TableSchema? Schema,
    string What,
    DateTimeOffset NoticedAt
)
{
    /// <summary>From 1 on within the table's history; 0 until it is kept.</summary>
    public int Number { get; init; }

    /// <summary>Which of several changes of the table at <see cref="From"/> it is, from 0 on.</summary>
    public int Ordinal { get; init; }

    /// <summary>
    /// Up to here the version before is known to hold: the change lies between this position and <see cref="From"/>. Null where it lies at
    /// <see cref="From"/> itself, and where nothing is known of the time before.
    /// </summary>
    public LogPosition? NotBefore { get; init; }

    /// <summary>What is different from the version before; empty where there is none, or nothing differs.</summary>
    public IReadOnlyList<SchemaChange> Changes { get; init; } = [];

    /// <summary>The statement that made it, for display only; null where the source does not tell it.</summary>
    public string? Statement { get; init; }

    /// <summary>
    /// Whether a copy can continue without it: what concerns rows is known, and is nothing but columns added, dropped or renamed, and parts
    /// detached.
    /// </summary>
    public bool MayBeLeftOut =>
        Certainty != VersionCertainty.Undecided
        && Changes.Any(change => !change.KeepsRows)
        && Changes.All(change =>
            change.KeepsRows
            || change.TakesRows
            || change.Kind is SchemaChangeKind.ColumnAdded or SchemaChangeKind.ColumnDropped or SchemaChangeKind.ColumnRenamed
        );
}
