using System.Text.Json;
using Microsoft.Data.Sqlite;
using Microsoft.EntityFrameworkCore;
using Vestige.Core.Crossings;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Storage;
using Vestige.Storage.Entities;
using Vestige.Web.Api;
using Vestige.Web.Definitions;

namespace Vestige.Web.Hosting;

/// <summary>The engine's control store, in the store of the data folder.</summary>
public sealed class ControlStore(StoreFactory factory, TimeProvider clock) : IControlStore
{
    /// <summary>Of each crossing so many versions of its definition are kept, as far as they have no more characters together.</summary>
    private const int MostVersions = 200;
    private const int MostVersionCharacters = 8 << 20;

    public async Task<IReadOnlyList<StoredCrossing>> LoadAsync(CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var records = await store.Crossings.AsNoTracking().OrderBy(crossing => crossing.Name).ToListAsync(cancellation);
        return
        [
            .. records.Select(record => new StoredCrossing(
                JsonSerializer.Deserialize<CrossingDefinition>(record.Definition, DefinitionJson.Options)!,
                Enum.Parse<DesiredState>(record.Desired),
                record.By,
                record.Since,
                record.Until is null ? null : JsonSerializer.Deserialize<StopMark>(record.Until)
            )),
        ];
    }

    public Task SaveAsync(StoredCrossing crossing, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(crossing);
        return ChangeAsync(async store =>
        {
            var text = JsonSerializer.Serialize(crossing.Definition, DefinitionJson.Options);
            var record = await store.Crossings.FindAsync([crossing.Definition.Name], cancellation);
            if (record is null)
            {
                record = new CrossingRecord
                {
                    Name = crossing.Definition.Name,
                    Definition = text,
                    Desired = "",
                    By = "",
                    Version = 1,
                };
                store.Crossings.Add(record);
            }

            var isOther = record.Definition != text;
            record.Version += isOther ? 1 : 0;
            record.Definition = text;
            if (await store.DefinitionVersions.FindAsync([crossing.Definition.Name, record.Version], cancellation) is null)
            {
                store.DefinitionVersions.Add(
                    new DefinitionVersionRecord
                    {
                        Crossing = crossing.Definition.Name,
                        Version = record.Version,
                        Definition = text,
                        By = crossing.By,
                        AtTicks = (isOther ? clock.GetUtcNow() : crossing.Since).UtcTicks,
                    }
                );
            }

            await ForgetOldVersionsAsync(store, record.Name, record.Version, cancellation);
            record.Desired = crossing.Desired.ToString();
            record.By = crossing.By;
            record.Since = crossing.Since;
            record.Until = crossing.Until is null ? null : JsonSerializer.Serialize(crossing.Until);
        });
    }

    private static async Task ForgetOldVersionsAsync(VestigeStore store, string crossing, long newest, CancellationToken cancellation)
    {
        var sizes = await store
            .DefinitionVersions.Where(version => version.Crossing == crossing && version.Version < newest)
            .OrderByDescending(version => version.Version)
            .Select(version => new { version.Version, version.Definition.Length })
            .ToListAsync(cancellation);
        var (characters, first) = (0L, newest);
        foreach (var version in sizes.Take(MostVersions - 1))
        {
            characters += version.Length;
            if (characters > MostVersionCharacters)
            {
                break;
            }

            first = version.Version;
        }

        await store
            .DefinitionVersions.Where(version => version.Crossing == crossing && version.Version < first)
            .ExecuteDeleteAsync(cancellation);
    }

    public Task DeleteAsync(string crossing, CancellationToken cancellation) =>
        ChangeAsync(async store =>
        {
            if (await store.Crossings.FindAsync([crossing], cancellation) is { } record)
            {
                store.Crossings.Remove(record);
                store.DefinitionVersions.RemoveRange(store.DefinitionVersions.Where(version => version.Crossing == crossing));
            }
        });

    /// <summary>Every definition that was kept under the name, newest first.</summary>
    public async Task<IReadOnlyList<DefinitionVersion>> VersionsAsync(string crossing, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var records = await store
            .DefinitionVersions.AsNoTracking()
            .Where(version => version.Crossing == crossing)
            .OrderByDescending(version => version.Version)
            .ToListAsync(cancellation);
        return
        [
            .. records.Select(record => new DefinitionVersion(
                record.Version,
                JsonSerializer.Deserialize<CrossingDefinition>(record.Definition, DefinitionJson.Options)!,
                record.By,
                new DateTimeOffset(record.AtTicks, TimeSpan.Zero)
            )),
        ];
    }

    public async Task<long> NextTermAsync(string crossing, long after, CancellationToken cancellation)
    {
        var next = 0L;
        await ChangeAsync(async store =>
        {
            var record = await store.Epochs.FindAsync([crossing], cancellation);
            if (record is null)
            {
                record = new EpochRecord { Crossing = crossing };
                store.Epochs.Add(record);
            }

            next = record.Epoch = Math.Max(record.Epoch, after) + 1;
        });
        return next;
    }

    public Task AppendAsync(CrossingEvent happened, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(happened);
        return ChangeAsync(store =>
        {
            store.Events.Add(
                new EventRecord
                {
                    AtTicks = happened.At.UtcTicks,
                    Crossing = happened.Crossing,
                    Connection = happened.Connection,
                    Kind = happened.Kind.ToString(),
                    Text = happened.Text,
                    By = happened.By,
                }
            );
            return Task.CompletedTask;
        });
    }

    /// <summary>Stored events of a crossing, or all, newest first.</summary>
    public async Task<IReadOnlyList<CrossingEvent>> EventsAsync(string? crossing, int most, CancellationToken cancellation) =>
        [.. (await EventsAsync(new EventFilter(crossing), null, most, cancellation)).Select(stored => stored.Event)];

    /// <summary>Stored events that a filter lets through, newest first.</summary>
    /// <param name="filter">Which.</param>
    /// <param name="before">Only those older than the event of this number; null for the newest.</param>
    /// <param name="most">At most this many.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IReadOnlyList<StoredEvent>> EventsAsync(EventFilter filter, long? before, int most, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        var records = await Filtered(store.Events.AsNoTracking(), filter)
            .Where(happened => before == null || happened.Id < before)
            .OrderByDescending(happened => happened.Id)
            .Take(most)
            .ToListAsync(cancellation);
        return
        [
            .. records.Select(record => new StoredEvent(
                record.Id,
                new CrossingEvent(
                    new DateTimeOffset(record.AtTicks, TimeSpan.Zero),
                    record.Crossing,
                    record.Connection,
                    Enum.Parse<EventKind>(record.Kind),
                    record.Text,
                    record.By
                )
            )),
        ];
    }

    /// <summary>Drops what happened before a moment.</summary>
    public Task ForgetEventsAsync(DateTimeOffset before, CancellationToken cancellation) =>
        ChangeAsync(store => store.Events.Where(happened => happened.AtTicks < before.UtcTicks).ExecuteDeleteAsync(cancellation));

    private static IQueryable<EventRecord> Filtered(IQueryable<EventRecord> events, EventFilter filter)
    {
        ArgumentNullException.ThrowIfNull(filter);
        var (kind, from, to) = (filter.Kind?.ToString(), filter.From?.UtcTicks, filter.To?.UtcTicks);
        var like = LikePatterns.Containing(filter.Text);
        return events.Where(happened =>
            (filter.Crossing == null || happened.Crossing == filter.Crossing)
            && (filter.Connection == null || happened.Connection == filter.Connection)
            && (kind == null || happened.Kind == kind)
            && (from == null || happened.AtTicks >= from)
            && (to == null || happened.AtTicks < to)
            && (like == null || EF.Functions.Like(happened.Text, like, "\\"))
        );
    }

    /// <summary>The version of a definition, for its ETag; null when there is none.</summary>
    public async Task<long?> VersionAsync(string crossing, CancellationToken cancellation)
    {
        await using var store = factory.CreateDbContext();
        return await store
            .Crossings.Where(record => record.Name == crossing)
            .Select(record => (long?)record.Version)
            .FirstOrDefaultAsync(cancellation);
    }

    private async Task ChangeAsync(Func<VestigeStore, Task> change)
    {
        try
        {
            await using var store = factory.CreateDbContext();
            await change(store);
            await store.SaveChangesAsync();
        }
        catch (Exception exception) when (exception is DbUpdateException or SqliteException)
        {
            throw new PortException($"The store of the data folder cannot be written: {exception.GetBaseException().Message}", exception)
            {
                Transient = true,
                Remedy = "Make room on the disk of the data folder, and make sure that it can be written.",
            };
        }
    }
}
