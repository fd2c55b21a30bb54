using Vestige.Core.Folding;

namespace Vestige.Engine.Ports;

/// <summary>One worker's hold on a target that writes table by table.</summary>
public interface ITableWriter : ISinkWriter
{
    /// <summary>The progress of the crossing's tables as found when it was opened.</summary>
    IReadOnlyList<TableProgress> Tables { get; }

    /// <summary>
    /// Applies the net effect on one table and moves its progress, in one step, durable when it returns. A row to insert that is there is
    /// overwritten, one to update that is missing is inserted, one to delete that is missing is passed over. Throws
    /// <see cref="Faults.RowRefusedException"/> when a row is not taken; nothing is changed then.
    /// </summary>
    Task ApplyAsync(FoldedTable table, TableProgress progress, CancellationToken cancellation);

    /// <summary>Moves the progress of a table alone, in one step, durable when it returns.</summary>
    Task SaveAsync(TableProgress progress, CancellationToken cancellation);
}
