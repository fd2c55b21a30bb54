using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Vestige.Engine.Ports;
using Vestige.Engine.Rewinding;
using Vestige.Storage;
using Vestige.Storage.Entities;

namespace Vestige.Web.Hosting;

/// <summary>What is to be applied again, in the store of the data folder.</summary>
public sealed class RewindStore(StoreFactory factory) : IRewindStore
{
    public async Task<Rewind?> FindAsync(string crossing, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        return await store.Rewinds.FindAsync([crossing], cancellation) is { } found
            ? JsonSerializer.Deserialize<Rewind>(found.Request)
            : null;
    }

    public Task SaveAsync(Rewind rewind, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(rewind);
        return ChangeAsync(
            async store =>
            {
                await store.Rewinds.Where(one => one.Crossing == rewind.Crossing).ExecuteDeleteAsync(cancellation);
                store.Rewinds.Add(new RewindRecord { Crossing = rewind.Crossing, Request = JsonSerializer.Serialize(rewind) });
            },
            cancellation
        );
    }

    public Task DeleteAsync(string crossing, CancellationToken cancellation) =>
        ChangeAsync(store => store.Rewinds.Where(one => one.Crossing == crossing).ExecuteDeleteAsync(cancellation), cancellation);

    private Task ChangeAsync(Func<VestigeStore, Task> change, CancellationToken cancellation) =>
        factory.ChangeAsync("Changes that are applied again", change, cancellation);
}
