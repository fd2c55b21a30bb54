using Vestige.Core.Changes;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Engine.Ports;

/// <summary>What sources and targets have in common: tables one can look at.</summary>
public interface IDatabase
{
    /// <summary>The kind of engine; rows pass as they are only between databases of the same one.</summary>
    string Engine { get; }

    /// <summary>What its types mean to treatments.</summary>
    IEngineTypes Types { get; }

    /// <summary>A text that is the same for every way of reaching one database. A copy of a database's files may say the same of itself.</summary>
    Task<string> GetIdentityAsync(CancellationToken cancellation);

    /// <summary>
    /// Whether another connection of the same engine reaches the same database, proved by a lock that one of them takes
    /// and the other sees. Asked where <see cref="GetIdentityAsync"/> of both is the same.
    /// </summary>
    Task<bool> IsSameAsync(IDatabase other, CancellationToken cancellation);

    Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation);

    /// <summary>The exact number of rows as of now.</summary>
    /// <param name="table">The table.</param>
    /// <param name="only">Which of its rows; null for all.</param>
    /// <param name="cancellation">Gives up.</param>
    Task<long> CountAsync(TableName table, SharedRows? only, CancellationToken cancellation);

    /// <summary>
    /// The row whose key columns equal the given texts, in key order, compared as the engine compares a text typed by a
    /// person with the column; null when there is none.
    /// </summary>
    Task<Row?> FindAsync(TableSchema table, IReadOnlyList<string> key, CancellationToken cancellation);

    /// <summary>
    /// Some rows, whichever the engine finds first, in the order of the table's columns and as text; long values may be cut
    /// off. For looking only: nothing is kept, and the database is neither locked nor held up for longer than a few seconds.
    /// </summary>
    Task<IReadOnlyList<Row>> SampleRowsAsync(TableSchema table, int rows, CancellationToken cancellation);

    /// <summary>Each hop of the connection proved in turn; ends at the first that fails.</summary>
    Task<IReadOnlyList<ReadinessLine>> TestAsync(CancellationToken cancellation);
}
