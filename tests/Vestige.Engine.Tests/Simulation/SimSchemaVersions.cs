using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>The versions of tables as one process reaches them; what is kept outlives the process.</summary>
public sealed class SimSchemaVersions(SimStoreState state, SimFaults faults) : ISchemaVersionStore
{
    public async Task AddAsync(string source, IReadOnlyList<SchemaVersion> versions, CancellationToken cancellation)
    {
        await faults.BeforeAsync("versions.add", cancellation);
        if (!state.ForgetsVersions)
        {
            await state.Versions.AddAsync(source, versions, cancellation);
        }

        faults.After("versions.add");
    }

    public async Task<IReadOnlyList<VersionMark>> LatestAsync(string source, CancellationToken cancellation)
    {
        await faults.BeforeAsync("versions.read", cancellation);
        return await state.Versions.LatestAsync(source, cancellation);
    }

    public Task<IReadOnlyList<SchemaVersion>> OfTableAsync(string source, TableName table, CancellationToken cancellation) =>
        state.Versions.OfTableAsync(source, table, cancellation);

    public async Task<SchemaVersion?> LatestOfAsync(string source, TableName table, CancellationToken cancellation)
    {
        await faults.BeforeAsync("versions.read", cancellation);
        return await state.Versions.LatestOfAsync(source, table, cancellation);
    }

    public Task<(IReadOnlyList<SchemaVersion> Versions, int Found)> ListAsync(
        string source,
        string find,
        bool changesOnly,
        int skip,
        int take,
        CancellationToken cancellation
    ) => state.Versions.ListAsync(source, find, changesOnly, skip, take, cancellation);
}
