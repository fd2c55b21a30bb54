using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;

namespace Vestige.Storage;

/// <summary>Opens the store of a data folder.</summary>
public sealed class StoreFactory(string path) : IDbContextFactory<VestigeStore>
{
    private const int Corrupt = 11;
    private const int NotADatabase = 26;
    private readonly DbContextOptions<VestigeStore> options = new DbContextOptionsBuilder<VestigeStore>()
        .UseSqlite($"Data Source={path}")
        .Options;

    public VestigeStore CreateDbContext() => new(options);

    /// <summary>
    /// Brings the file to the present form, making it when it is not there. Throws <see cref="InvalidOperationException"/>, with what to
    /// do, when it cannot be used.
    /// </summary>
    public async Task MigrateAsync(CancellationToken cancellation)
    {
        try
        {
            await BringForwardAsync(cancellation);
        }
        catch (SqliteException exception)
        {
            throw new InvalidOperationException(
                exception.SqliteErrorCode is Corrupt or NotADatabase
                    ? $"The store {path} is damaged: {exception.Message} Restore the data folder from a backup."
                    : $"The store {path} cannot be used: {exception.Message} Make sure that the disk has room and that the user who "
                        + "runs Vestige can write the file and its folder.",
                exception
            );
        }
    }

    private async Task BringForwardAsync(CancellationToken cancellation)
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
