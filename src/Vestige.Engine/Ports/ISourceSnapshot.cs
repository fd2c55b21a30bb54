using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>
/// All tables of a source as of one position: exactly what was committed up to it. Reads may run at the same time, as
/// many as were asked for when it was opened.
/// </summary>
public interface ISourceSnapshot : IAsyncDisposable
{
    LogPosition Position { get; }

    DateTimeOffset TakenAt { get; }

    /// <summary>The forms of the tables as of the snapshot; a table that is not there is missing from the result.</summary>
    Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation);

    /// <summary>Cuts a table into that many ranges of about equal rows, in key order and without gap or overlap.</summary>
    Task<IReadOnlyList<KeyRange>> CutAsync(TableSchema table, int chunks, CancellationToken cancellation);

    /// <summary>
    /// What must be remembered of this snapshot so that a later one can continue with the load of the table; null when the load
    /// of it must begin again.
    /// </summary>
    Task<string?> MarkAsync(TableSchema table, CancellationToken cancellation);

    /// <summary>
    /// Cuts what an interrupted load left: the ranges that it did not finish, and of those it finished what may have changed
    /// since. Null when the table is not what it was, or too little of it is done: then the load of it begins
    /// again.
    /// </summary>
    Task<IReadOnlyList<RowRange>?> CutRestAsync(TableSchema table, LoadCheckpoint part, int chunks, CancellationToken cancellation);

    /// <summary>
    /// The rows of one range, in blocks of at most about a megabyte. A block's memory stays valid. Where the target takes one
    /// of this engine's own forms of rows, they may come in that form.
    /// </summary>
    /// <param name="table">The table.</param>
    /// <param name="range">One of the ranges that <see cref="CutAsync"/> or <see cref="CutRestAsync"/> gave.</param>
    /// <param name="taken">The engines' own forms that the target takes.</param>
    /// <param name="cancellation">Gives up.</param>
    IAsyncEnumerable<RowBlock> ReadAsync(TableSchema table, RowRange range, IReadOnlySet<string> taken, CancellationToken cancellation);
}
