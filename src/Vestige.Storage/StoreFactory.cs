using System.Reflection;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Microsoft.EntityFrameworkCore.Diagnostics;
using Microsoft.EntityFrameworkCore.Migrations;

namespace Vestige.Storage;

/// <summary>Opens the store of a data folder.</summary>
public sealed class StoreFactory(string path) : IDbContextFactory<VestigeStore>
{
    private const int Corrupt = 11;
    private const int NotADatabase = 26;
    private readonly DbContextOptions<VestigeStore> options = new DbContextOptionsBuilder<VestigeStore>()
        .UseSqlite(ConnectionString(path))
        // A test compares the model with its migrations; a start does not do that again, since it takes longer than all of them.
        .ConfigureWarnings(warnings => warnings.Ignore(RelationalEventId.PendingModelChangesWarning))
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

    private static string ConnectionString(string path) => $"Data Source={path}";

    private async Task BringForwardAsync(CancellationToken cancellation)
    {
        if (await IsPresentAsync(cancellation))
        {
            return;
        }

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

    /// <summary>
    /// Whether every migration was applied to the file. Asked without the model, so that a start on such a file, the usual one, does not
    /// compare the model with its migrations.
    /// </summary>
    private async Task<bool> IsPresentAsync(CancellationToken cancellation)
    {
        if (!File.Exists(path))
        {
            return false;
        }

        await using var connection = new SqliteConnection(ConnectionString(path));
        await connection.OpenAsync(cancellation);
        await using var command = connection.CreateCommand();
        command.CommandText = $"SELECT 1 FROM sqlite_schema WHERE name = '{HistoryRepository.DefaultTableName}'";
        if (await command.ExecuteScalarAsync(cancellation) is null)
        {
            return false;
        }

        command.CommandText = $"SELECT \"MigrationId\" FROM \"{HistoryRepository.DefaultTableName}\"";
        var applied = new HashSet<string>(StringComparer.Ordinal);
        await using var rows = await command.ExecuteReaderAsync(cancellation);
        while (await rows.ReadAsync(cancellation))
        {
            applied.Add(rows.GetString(0));
        }

        return typeof(StoreFactory)
            .Assembly.GetTypes()
            .Select(type => type.GetCustomAttribute<MigrationAttribute>()?.Id)
            .OfType<string>()
            .All(applied.Contains);
    }
}
