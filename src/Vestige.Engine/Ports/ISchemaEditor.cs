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
}
