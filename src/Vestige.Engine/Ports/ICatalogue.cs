using Vestige.Core.Treatments;

namespace Vestige.Engine.Ports;

/// <summary>A system that has tables with columns and types. Safe for several threads.</summary>
public interface ICatalogue
{
    /// <summary>The engine whose types and row encodings these are; rows pass as they are only between two of the same one.</summary>
    string Engine { get; }

    /// <summary>What its types mean to treatments.</summary>
    IEngineTypes Types { get; }

    /// <summary>All tables, as of now.</summary>
    Task<IReadOnlyList<TableDescription>> ReadTablesAsync(CancellationToken cancellation);
}
