using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>A system that a DBA prepares with a script made for it.</summary>
public interface IPreparation
{
    /// <summary>The script for reading these tables.</summary>
    Task<Preparation> PrepareSourceAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation);

    /// <summary>The script for writing.</summary>
    Task<Preparation> PrepareTargetAsync(CancellationToken cancellation);
}
