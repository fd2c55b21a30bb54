using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Engine.Ports;

/// <summary>
/// A target whose tables can be changed in the transaction that writes rows: what is changed and the rows commit together, or neither does.
/// Safe for several threads.
/// </summary>
public interface ISchemaEditor
{
    /// <summary>
    /// The statements that change a table, as they would run. Throws <see cref="Faults.PortException"/> when the system cannot be changed
    /// like that.
    /// </summary>
    IReadOnlyList<string> StatementsFor(SchemaEdit edit);

    /// <summary>
    /// Changes the table. Throws <see cref="Faults.PortException"/>, transient where waiting may help, when the system does not do it; the
    /// transaction can then only be disposed.
    /// </summary>
    /// <param name="transaction">A transaction of this target.</param>
    /// <param name="edit">What is to be done.</param>
    /// <param name="cancellation">Gives up.</param>
    Task EditAsync(ITargetTransaction transaction, SchemaEdit edit, CancellationToken cancellation);

    /// <summary>
    /// Adds to the types of a table's columns the values that those of the source have more, each at its place in their order. Nothing
    /// that a column takes is lost. Done at once, in no transaction of others.
    /// </summary>
    /// <param name="table">The table, with the objects that make its types.</param>
    /// <param name="cancellation">Gives up.</param>
    /// <returns>The statements that were run; empty where nothing is missing.</returns>
    Task<IReadOnlyList<string>> GrowTypesAsync(TableSchema table, CancellationToken cancellation) =>
        Task.FromResult<IReadOnlyList<string>>([]);

    /// <summary>The statement that drops a table with all that belongs to it.</summary>
    string DropStatementFor(TableName table);

    /// <summary>
    /// Drops tables that are there, and first the references to them from tables that the crossing has made. Throws
    /// <see cref="Faults.PortException"/> where something else needs one of them; the transaction can then only be disposed.
    /// </summary>
    Task DropAsync(ITargetTransaction transaction, IReadOnlyList<TableName> tables, CancellationToken cancellation);
}
