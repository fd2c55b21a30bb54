using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Loading;

/// <summary>The load of one table, while it continues and after. Safe for several threads.</summary>
/// <param name="treatment">What happens to its rows.</param>
/// <param name="targets">The forms of the target's tables, with all that belongs to them, in the order of the treatment's.</param>
/// <param name="estimatedRows">Rows in the snapshot, as estimated or counted there.</param>
/// <param name="chunks">In how many chunks it is read.</param>
/// <param name="part">What a later load would need to go on; null where it would begin again.</param>
public sealed class TableLoad(
    TableTreatment treatment,
    IReadOnlyList<TableSchema> targets,
    long estimatedRows,
    int chunks,
    LoadCheckpoint? part = null
)
{
    private readonly Lock gate = new();
    private long rows = part?.Rows ?? 0;
    private long leftOut;
    private int open = chunks;
    private LoadCheckpoint? part = part;

    /// <summary>The source's table.</summary>
    public TableSchema Table => treatment.Source;

    public IReadOnlyList<TableSchema> Targets => targets;

    public long EstimatedRows => estimatedRows;

    /// <summary>Rows read and done with, those of an interrupted load before this one among them.</summary>
    public long Rows => Interlocked.Read(ref rows);

    /// <summary>All its rows are written.</summary>
    public bool Done => Volatile.Read(ref open) == 0;

    /// <summary>The log of the snapshot.</summary>
    public required LogIdentity Log { get; init; }

    /// <summary>
    /// The table whose rows those of <see cref="Targets"/>, a table beside it, replace at the end; null where rows are loaded into
    /// the target's table itself.
    /// </summary>
    public TableSchema? Replaces { get; init; }

    /// <summary>Whether the stream applies changes of other tables meanwhile, so that this one is to catch up with it.</summary>
    public bool IsBeside { get; init; }

    internal TableTreatment Treatment => treatment;

    /// <summary>Rows that were read and written to the target; those that the treatment leaves out are not among them.</summary>
    public long RowsWritten => Rows - Interlocked.Read(ref leftOut);

    internal void Wrote(long count) => Interlocked.Add(ref rows, count);

    /// <summary>Rows that are left out and are counted as done with the others of their block.</summary>
    internal void NotWritten(long count) => Interlocked.Add(ref leftOut, count);

    /// <summary>Rows of a block that is left out as a whole.</summary>
    internal void LeftOut(long count)
    {
        NotWritten(count);
        Interlocked.Add(ref rows, count);
    }

    /// <summary>All rows of one chunk are written; true when it was the last.</summary>
    internal bool EndChunk() => Interlocked.Decrement(ref open) == 0;

    /// <summary>The progress to be kept with the target.</summary>
    internal TableProgress Progress(bool loaded, LogPosition position, LoadCheckpoint? remembered = null) =>
        new(
            Table.Name,
            loaded,
            position,
            Part: remembered,
            Into: TableProgress.NamesOf(Replaces is { } replaced ? [replaced.Name] : targets.Select(target => target.Name)),
            Settled: false,
            Fingerprint: SchemaFingerprint.Of(Table)
        )
        {
            Log = Log,
            Reached = loaded && IsBeside ? position : null,
        };

    /// <summary>
    /// What to remember when a chunk is done; null when there is nothing, for the table begins again or is done as a whole.
    /// </summary>
    internal LoadCheckpoint? Remember(LoadChunk chunk)
    {
        lock (gate)
        {
            return part is null || Done || chunk.Range.ChangedSince is not null ? null : part = part.With(chunk.Range.Keys, chunk.Rows);
        }
    }
}
