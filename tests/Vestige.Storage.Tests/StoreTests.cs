using Microsoft.EntityFrameworkCore;
using Vestige.Storage.Entities;
using Xunit;

namespace Vestige.Storage.Tests;

public sealed class StoreTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("vestige-store-").FullName;
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;

    public void Dispose()
    {
        Microsoft.Data.Sqlite.SqliteConnection.ClearAllPools();
        Directory.Delete(folder, recursive: true);
    }

    [Fact]
    public async Task The_migrations_make_what_the_model_says_and_running_them_again_does_nothing()
    {
        var factory = new StoreFactory(Path.Combine(folder, "store.db"));
        await factory.MigrateAsync(cancellation);
        await factory.MigrateAsync(cancellation);
        await using var store = factory.CreateDbContext();
        Assert.False(store.Database.HasPendingModelChanges());
        store.Connections.Add(new ConnectionRecord { Name = "a", Kind = "stand-in", Settings = "{}", Secret = [1, 2], CreatedAt = DateTimeOffset.UnixEpoch });
        await store.SaveChangesAsync(cancellation);
        await using var again = factory.CreateDbContext();
        Assert.Equal([1, 2], (await again.Connections.SingleAsync(cancellation)).Secret!);
    }
}
