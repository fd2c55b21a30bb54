using System.Text.Json;
using Microsoft.EntityFrameworkCore;
using Vestige.Engine.Ports;
using Vestige.Engine.Undoing;
using Vestige.Storage;
using Vestige.Storage.Entities;

namespace Vestige.Web.Hosting;

/// <summary>Tables that can be restored, in the store of the data folder.</summary>
public sealed class UndoStore(StoreFactory factory) : IUndoStore
{
    public Task AddAsync(IReadOnlyList<UndoEntry> entries, CancellationToken cancellation) =>
        ChangeAsync(
            store =>
            {
                store.Undo.AddRange(
                    entries.Select(entry => new UndoRecord
                    {
                        Id = entry.Id,
                        AtTicks = entry.At.UtcTicks,
                        Entry = JsonSerializer.Serialize(entry),
                    })
                );
                return Task.CompletedTask;
            },
            cancellation
        );

    public async Task<IReadOnlyList<UndoEntry>> ListAsync(CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var found = await store
            .Undo.AsNoTracking()
            .OrderByDescending(entry => entry.AtTicks)
            .Select(entry => entry.Entry)
            .ToListAsync(cancellation);
        return [.. found.Select(Read)];
    }

    public async Task<UndoEntry?> FindAsync(string id, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        return await store.Undo.FindAsync([id], cancellation) is { } found ? Read(found.Entry) : null;
    }

    public Task RemoveAsync(IReadOnlyList<string> ids, CancellationToken cancellation) =>
        ChangeAsync(store => store.Undo.Where(entry => ids.Contains(entry.Id)).ExecuteDeleteAsync(cancellation), cancellation);

    private static UndoEntry Read(string json) => JsonSerializer.Deserialize<UndoEntry>(json)!;

    private Task ChangeAsync(Func<VestigeStore, Task> change, CancellationToken cancellation) =>
        factory.ChangeAsync("Tables that can be restored", change, cancellation);
}
