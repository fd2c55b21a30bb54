using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>
/// One worker's hold on a target that writes no transactions; takes the rows of first loads. After any exception it is finished: what was
/// being written may be there or not, and is written again by the next. Every write throws <see cref="Faults.FencedException"/> once a
/// worker with a higher term has opened the crossing. Used by one caller at a time.
/// </summary>
public interface ISinkWriter : IAsyncDisposable
{
    /// <summary>
    /// Begins the load of a table: what an earlier load of this crossing brought of it counts no more. Durable when it returns.
    /// </summary>
    /// <param name="table">What it is called here, and its columns.</param>
    /// <param name="begun">The progress of the source's table, not loaded.</param>
    /// <param name="cancellation">Gives up.</param>
    Task BeginLoadAsync(TableSchema table, TableProgress begun, CancellationToken cancellation);

    /// <summary>Writes rows of a table whose load has begun.</summary>
    Task LoadAsync(TableSchema table, RowBlock block, CancellationToken cancellation);

    /// <summary>Ends the load of a table: its rows are durable, and <paramref name="loaded"/> says as of which position they are.</summary>
    Task EndLoadAsync(TableSchema table, TableProgress loaded, CancellationToken cancellation);
}
