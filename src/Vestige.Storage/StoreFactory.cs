using Microsoft.EntityFrameworkCore;

namespace Vestige.Storage;

/// <summary>Opens the store of a data folder.</summary>
public sealed class StoreFactory(string path) : IDbContextFactory<VestigeStore>
{
    private readonly DbContextOptions<VestigeStore> options =
        new DbContextOptionsBuilder<VestigeStore>().UseSqlite($"Data Source={path}").Options;

    public VestigeStore CreateDbContext() => new(options);

    /// <summary>Brings the file to the present form, making it when it is not there.</summary>
    public async Task MigrateAsync(CancellationToken cancellation)
    {
        await using var store = CreateDbContext();
        if (!File.Exists(path))
        {
            // Blocks of measures are a little over 2 kB; in pages of 4 kB half of each would lie empty. It holds for new files only.
            await store.Database.OpenConnectionAsync(cancellation);
            await store.Database.ExecuteSqlRawAsync("PRAGMA page_size = 16384", cancellation);
        }

        await store.Database.MigrateAsync(cancellation);
        await store.Database.ExecuteSqlRawAsync("PRAGMA journal_mode = WAL", cancellation);
    }
}
