using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>A system of which single rows can be looked at. Safe for several threads.</summary>
public interface IRowLookup
{
    /// <summary>The exact number of rows as of now.</summary>
    /// <param name="table">The table.</param>
    /// <param name="only">Which of its rows; null for all.</param>
    /// <param name="cancellation">Gives up.</param>
    Task<long> CountAsync(TableName table, SharedRows? only, CancellationToken cancellation);

    /// <summary>
    /// The number of rows without reading all of a large table, so that it can be asked often; exact where there are few.
    /// </summary>
    /// <param name="table">The table.</param>
    /// <param name="only">Which of its rows; null for all.</param>
    /// <param name="cancellation">Gives up.</param>
    async Task<RowCount> EstimateAsync(TableName table, SharedRows? only, CancellationToken cancellation) =>
        new(await CountAsync(table, only, cancellation));

    /// <summary>
    /// How many rows have a value in a column that is not NULL; null where that is not known within a few seconds, and for a table or a
    /// column that is not there.
    /// </summary>
    Task<long?> CountValuesAsync(TableName table, string column, CancellationToken cancellation) => Task.FromResult<long?>(null);

    /// <summary>
    /// How many rows satisfy the bounds of a part that the source's table had; null where that is not known within a few seconds. See
    /// <see cref="Core.SchemaVersions.SchemaChangeKind.PartDetached"/>.
    /// </summary>
    Task<long?> CountWithinAsync(TableName table, string bounds, CancellationToken cancellation) => Task.FromResult<long?>(null);

    /// <summary>
    /// The row whose key columns equal the given texts, in key order, compared as the engine compares a text typed by a
    /// person with the column; null when there is none.
    /// </summary>
    Task<Row?> FindAsync(TableSchema table, IReadOnlyList<string> key, CancellationToken cancellation);

    /// <summary>
    /// Some rows, whichever the engine finds first, in the order of the table's columns and as text; long values may be cut
    /// off. For looking only: nothing is kept, and the system is neither locked nor held up for longer than a few seconds.
    /// </summary>
    Task<IReadOnlyList<Row>> SampleRowsAsync(TableSchema table, int rows, CancellationToken cancellation);
}
