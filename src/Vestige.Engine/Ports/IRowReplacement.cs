using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>
/// A target that can replace the rows of a table by others in one transaction: rows are loaded into a table beside it first, and whoever
/// reads sees the old ones until then. Safe for several threads.
/// </summary>
public interface IRowReplacement
{
    /// <summary>The table beside another, into which its rows are loaded: the same columns, no key.</summary>
    /// <param name="crossing">The crossing that loads them: each has its own.</param>
    /// <param name="table">The table whose rows are to be replaced.</param>
    TableSchema BesideOf(string crossing, TableSchema table);

    /// <summary>Makes the table beside, empty, instead of one that is left from before.</summary>
    /// <param name="transaction">A transaction of this target.</param>
    /// <param name="beside">As <see cref="BesideOf"/> gives it.</param>
    /// <param name="cancellation">Gives up.</param>
    Task MakeBesideAsync(ITargetTransaction transaction, TableSchema beside, CancellationToken cancellation);

    /// <summary>
    /// Makes the rows of a table exactly those beside, writes only what differs, and drops the table beside. Throws
    /// <see cref="Faults.PortException"/> where there are not as many beside as were written, and
    /// <see cref="Faults.RowRefusedException"/> where the table does not take one.
    /// </summary>
    /// <param name="transaction">A transaction of this target.</param>
    /// <param name="table">The table.</param>
    /// <param name="beside">Where its rows are.</param>
    /// <param name="rows">How many rows were written there.</param>
    /// <param name="cancellation">Gives up.</param>
    Task<ReplacedRows> ReplaceAsync(
        ITargetTransaction transaction,
        TableSchema table,
        TableSchema beside,
        long rows,
        CancellationToken cancellation
    );
}
