using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Vestige.Engine.Faults;
using Vestige.Storage;

namespace Vestige.Web.Hosting;

/// <summary>Changes the store of the data folder.</summary>
internal static class StoreChange
{
    /// <summary>Makes a change whole or not at all.</summary>
    /// <param name="factory">The store.</param>
    /// <param name="what">What is to be kept, as the beginning of a sentence.</param>
    /// <param name="change">The change; entities that it tracks are saved after it.</param>
    /// <param name="cancellation">Gives up; nothing is changed then.</param>
    /// <exception cref="PortException">The store cannot be written.</exception>
    public static async Task ChangeAsync(this StoreFactory factory, string what, Func<VestigeStore, Task> change, CancellationToken cancellation)
    {
        try
        {
            await using var store = factory.CreateDbContext();
            await using var transaction = await store.Database.BeginTransactionAsync(cancellation);
            await change(store);
            await store.SaveChangesAsync(cancellation);
            await transaction.CommitAsync(cancellation);
        }
        catch (Exception exception) when (exception is DbUpdateException or SqliteException)
        {
            throw new PortException($"{what} cannot be kept in the store of the data folder: {exception.GetBaseException().Message}", exception)
            {
                Transient = true,
                Mend = "Make room on the disk of the data folder, and make sure that it can be written.",
            };
        }
    }
}
