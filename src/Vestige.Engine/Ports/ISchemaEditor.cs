using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>
/// A target whose tables can be changed in the transaction that writes rows: what is changed and the rows commit together, or neither does.
/// Safe for several threads.
/// </summary>
public interface ISchemaEditor
{
    /// <summary>The statements that add columns to a table, as they would run. The columns take NULL and have no default.</summary>
    /// <param name="table">The table, as it is to be after it.</param>
    /// <param name="columns">The names of the columns to add.</param>
    IReadOnlyList<string> StatementsToAdd(TableSchema table, IReadOnlyList<string> columns);

    /// <summary>
    /// Adds the columns. Throws <see cref="Faults.PortException"/>, transient where waiting may help, when the system does not do it; the
    /// transaction can then only be disposed.
    /// </summary>
    /// <param name="transaction">A transaction of this target.</param>
    /// <param name="table">The table, as it is to be after it.</param>
    /// <param name="columns">The names of the columns to add.</param>
    /// <param name="cancellation">Gives up.</param>
    Task AddColumnsAsync(
        ITargetTransaction transaction,
        TableSchema table,
        IReadOnlyList<string> columns,
        CancellationToken cancellation
    );
}
