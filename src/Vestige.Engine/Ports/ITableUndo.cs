using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>
/// A target that takes tables out of the way in no time, whatever they hold, so that they can be put back. Tables that are taken away
/// together have one id. Throws <see cref="Faults.PortException"/> when the system does not do it. Safe for several threads.
/// </summary>
public interface ITableUndo
{
    /// <summary>Where tables are that were taken away under an id, as people find them.</summary>
    string PlaceOf(string id);

    /// <summary>
    /// Takes tables of one schema away that are there. References between them and other tables go: those would keep the others from
    /// changing. Where something of others refers to them, it throws; the transaction can then only be disposed.
    /// </summary>
    Task TakeAwayAsync(ITargetTransaction transaction, string id, IReadOnlyList<TableName> tables, CancellationToken cancellation);

    /// <summary>The names of the tables that were taken away under an id; empty when there are none.</summary>
    Task<IReadOnlyList<string>> FindAsync(string id, CancellationToken cancellation);

    /// <summary>Puts all of them back into a schema, or none where one of the names is taken.</summary>
    Task PutBackAsync(string id, string schema, CancellationToken cancellation);

    /// <summary>Drops them; nothing where there are none.</summary>
    Task DropAsync(string id, CancellationToken cancellation);
}
