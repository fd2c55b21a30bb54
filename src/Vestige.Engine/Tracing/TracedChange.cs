using Vestige.Core.Changes;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Tracing;

/// <summary>A change of a row as the spool holds it.</summary>
/// <param name="Schema">The table as it was then.</param>
/// <param name="Change">What happened; a truncation concerns every row of the table.</param>
/// <param name="Position">Of its transaction's commit.</param>
/// <param name="Transaction">The number of its transaction since the spool began.</param>
/// <param name="CommittedAt">By the source's clock.</param>
/// <param name="CapturedAt">When it was read from the log.</param>
/// <param name="SpooledAt">When it became durable; null when that is not remembered any more.</param>
/// <param name="Origin">Whence the source itself got it by replication; null when it was made there.</param>
/// <param name="Crossings">How far it has come in each crossing that takes its table.</param>
public sealed record TracedChange(
    TableSchema Schema,
    RowChange Change,
    LogPosition Position,
    long Transaction,
    DateTimeOffset CommittedAt,
    DateTimeOffset CapturedAt,
    DateTimeOffset? SpooledAt,
    string? Origin,
    IReadOnlyList<TracedStep> Crossings
);
