using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Vestige.Engine.Faults;
using Vestige.Storage;

namespace Vestige.Web.Hosting;

/// <summary>Changes the store of the data folder.</summary>
internal static class StoreChange
{
    /// <summary>SQLite result codes: https://www.sqlite.org/rescode.html.</summary>
    private const int Full = 13;
    private const int Constraint = 19;

    /// <summary>Makes a change whole or not at all.</summary>
    /// <param name="factory">The store.</param>
    /// <param name="what">What is to be kept, as the beginning of a sentence.</param>
    /// <param name="change">The change; entities that it tracks are saved after it.</param>
    /// <param name="cancellation">Gives up; nothing is changed then.</param>
    /// <exception cref="PortException">The store cannot be written.</exception>
    public static async Task ChangeAsync(
        this StoreFactory factory,
        string what,
        Func<VestigeStore, Task> change,
        CancellationToken cancellation
    )
    {
        try
        {
            await using var store = factory.CreateDbContext();
            await using var transaction = await store.Database.BeginTransactionAsync(cancellation);
            await change(store);
            await store.SaveChangesAsync(cancellation);
            await transaction.CommitAsync(cancellation);
        }
        catch (Exception exception) when (exception.GetBaseException() is SqliteException { SqliteErrorCode: Constraint })
        {
            throw new RequestRefusedException($"{what} cannot be saved: someone else changed it at the same moment.", exception)
            {
                Remedy = "Read it again, then repeat the change.",
            };
        }
        catch (Exception exception) when (exception is DbUpdateException or SqliteException)
        {
            throw new StoreException(
                $"{what} cannot be kept in the store of the data folder: {exception.GetBaseException().Message}",
                exception
            )
            {
                Transient = true,
                IsFull = exception.GetBaseException() is SqliteException { SqliteErrorCode: Full },
                Remedy = "Make room on the disk of the data folder, and make sure that it can be written.",
            };
        }
    }
}
