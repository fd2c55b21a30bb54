using Vestige.Core.Schemas;
using Vestige.Engine.Structures;

namespace Vestige.Engine.Ports;

/// <summary>
/// A target that can add indexes and constraints to tables while rows are written to them. Safe for several threads.
/// </summary>
public interface IStructureBuilder
{
    /// <summary>What tables are to have by their forms, and do not; tables that are not there are passed over.</summary>
    Task<IReadOnlyList<MissingPart>> MissingAsync(IReadOnlyList<TableSchema> tables, CancellationToken cancellation);

    /// <summary>
    /// Adds one; what an earlier attempt left is dropped first. Throws <see cref="Faults.PortException"/> where the target refuses, as
    /// where rows violate it; transient where others keep the table locked.
    /// </summary>
    Task BuildAsync(MissingPart part, CancellationToken cancellation);
}
