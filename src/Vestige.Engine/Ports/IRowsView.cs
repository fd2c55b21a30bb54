using Vestige.Core.Positions;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>
/// The rows of a database as of one moment, whatever is written meanwhile, for comparing. It holds up nobody, but keeps the database
/// from tidying up behind it: not to be kept for longer than a comparison takes. One call at a time.
/// </summary>
public interface IRowsView : IAsyncDisposable
{
    /// <summary>
    /// Of a source: it shows exactly what the log holds up to here. Of a target: it shows exactly what the crossing had applied up to
    /// here; null when it had not begun.
    /// </summary>
    LogPosition? Position { get; }

    /// <summary>Of a target: what it knew of the crossing at that moment; of a source nothing.</summary>
    TargetProgress Progress { get; }

    /// <summary>Digests that the database computes itself; null where rows have to be read for them.</summary>
    IRowDigests? Digests { get; }

    /// <summary>The forms of the tables as of the view.</summary>
    Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation);

    /// <summary>
    /// Keys that cut a span into about that many ranges of equal rows, in order; none for few rows. Keys of whole numbers only.
    /// </summary>
    Task<IReadOnlyList<Core.Changes.Row>> CutAsync(TableSchema table, KeySpan within, int ranges, CancellationToken cancellation);

    /// <summary>All rows of a span, in the common form. A span other than all needs keys of whole numbers.</summary>
    IAsyncEnumerable<RowBlock> ReadAsync(TableSchema table, KeySpan within, CancellationToken cancellation);

    /// <summary>The whole rows of some keys, as far as they are there, in no order. Keys hold the key columns only.</summary>
    Task<IReadOnlyList<Core.Changes.Row>> FindAsync(
        TableSchema table,
        IReadOnlyList<Core.Changes.Row> keys,
        CancellationToken cancellation
    );

    /// <summary>Whole rows drawn by chance, each as likely as every other and none twice.</summary>
    Task<IReadOnlyList<Core.Changes.Row>> SampleAsync(TableSchema table, int rows, CancellationToken cancellation);
}
