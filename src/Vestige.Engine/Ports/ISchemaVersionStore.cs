using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Engine.Ports;

/// <summary>Where the versions of the tables of sources are kept, for as long as their connection. Safe for several threads.</summary>
public interface ISchemaVersionStore
{
    /// <summary>Keeps versions, all or none. Each is given the next number of its table.</summary>
    Task AddAsync(string source, IReadOnlyList<SchemaVersion> versions, CancellationToken cancellation);

    /// <summary>The latest version of each table of a source, without the schemas; a thousand tables take milliseconds.</summary>
    Task<IReadOnlyList<VersionMark>> LatestAsync(string source, CancellationToken cancellation);

    /// <summary>The versions of a table with their schemas, the latest first; empty where none are known.</summary>
    Task<IReadOnlyList<SchemaVersion>> OfTableAsync(string source, TableName table, CancellationToken cancellation);

    /// <summary>The latest version of a table with its schema; null where none is known.</summary>
    Task<SchemaVersion?> LatestOfAsync(string source, TableName table, CancellationToken cancellation);

    /// <summary>Versions of a source, the latest noticed first, without their schemas.</summary>
    /// <param name="source">The connection.</param>
    /// <param name="find">A part of the table's name; empty for all.</param>
    /// <param name="changesOnly">Whether first versions, which say only that a table was found, are left out.</param>
    /// <param name="skip">How many to pass over.</param>
    /// <param name="take">How many at most.</param>
    /// <param name="cancellation">Gives up.</param>
    /// <returns>The versions, and how many match in all.</returns>
    Task<(IReadOnlyList<SchemaVersion> Versions, int Found)> ListAsync(
        string source,
        string find,
        bool changesOnly,
        int skip,
        int take,
        CancellationToken cancellation
    );
}
