using Microsoft.Data.Sqlite;
using Vestige.Engine.Ports;
using Vestige.Storage;
using Vestige.Tests.Conformance;
using Vestige.Web.Hosting;

namespace Vestige.Web.Tests;

/// <summary>The store of the data folder, which keeps the progress of crossings whose targets do not.</summary>
public sealed class ProgressStoreTests : ProgressStoreConformance
{
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-progress").FullName;

    protected override async Task<IProgressStore> OpenAsync()
    {
        var factory = Factory;
        await factory.MigrateAsync(CancellationToken.None);
        return new ProgressStore(factory);
    }

    protected override IProgressStore Again(IProgressStore store) => new ProgressStore(Factory);

    public override ValueTask DisposeAsync()
    {
        SqliteConnection.ClearAllPools();
        Directory.Delete(folder, recursive: true);
        return base.DisposeAsync();
    }

    private StoreFactory Factory => new(Path.Combine(folder, "store.db"));
}
