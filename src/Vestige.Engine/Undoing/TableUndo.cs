using System.Globalization;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Undoing;

/// <summary>
/// Tables of targets that would have been dropped, and are kept out of the way for a while. Safe for several threads.
/// </summary>
public sealed class TableUndo
{
    private readonly EngineServices services;
    private readonly IConnections connections;
    private readonly IUndoStore? store;
    private readonly OwnCopies copies;

    internal TableUndo(EngineServices services, OwnCopies copies)
    {
        (this.services, this.copies) = (services, copies);
        (connections, store) = (services.Connections, services.Stores.Undo);
    }

    /// <summary>What can be restored on a connection, the latest first.</summary>
    public async Task<IReadOnlyList<UndoEntry>> ListAsync(string connection, CancellationToken cancellation) =>
        store is null ? [] : [.. (await store.ListAsync(cancellation)).Where(entry => entry.Connection == connection)];

    /// <summary>What can be restored that a crossing has written, the latest first.</summary>
    public async Task<IReadOnlyList<UndoEntry>> OfCrossingAsync(string crossing, CancellationToken cancellation) =>
        store is null ? [] : [.. (await store.ListAsync(cancellation)).Where(entry => entry.Crossing == crossing)];

    /// <summary>
    /// Puts the tables back where they were. They are no part of a crossing then. Throws <see cref="RequestRefusedException"/> when there
    /// is no such entry, its tables are not there any more, or a crossing writes one of the names, and <see cref="PortException"/> where a
    /// name is taken.
    /// </summary>
    public async Task<UndoEntry> RestoreAsync(string connection, string id, string by, CancellationToken cancellation)
    {
        var (entry, undo) = await ExistingAsync(connection, id, cancellation);
        if (copies.WriterOf(connection, entry.Tables) is { } writer)
        {
            throw new RequestRefusedException($"Crossing {writer.Crossing} writes {writer.Table} now.")
            {
                Remedy = "Remove the table from that crossing, and drop or rename the table that is there; then restore.",
            };
        }

        if ((await undo.FindAsync(id, cancellation)).Count == 0)
        {
            await store!.RemoveAsync([id], cancellation);
            throw new RequestRefusedException($"{Named(entry)} can no longer be restored: {connection} has no kept tables of {id}.")
            {
                Remedy = "Load the tables again.",
            };
        }

        await undo.PutBackAsync(id, entry.Tables[0].Schema, cancellation);
        await store!.RemoveAsync([id], cancellation);
        await services.Events.OfConnectionAsync(connection, EventKind.Note, $"Restored: {Named(entry)}.", by);
        return entry;
    }

    /// <summary>Drops the tables now. Throws as above.</summary>
    public async Task<UndoEntry> DropAsync(string connection, string id, string by, CancellationToken cancellation)
    {
        var (entry, undo) = await ExistingAsync(connection, id, cancellation);
        await undo.DropAsync(id, cancellation);
        await store!.RemoveAsync([id], cancellation);
        await services.Events.OfConnectionAsync(connection, EventKind.Note, $"Dropped for good before their time: {Named(entry)}.", by);
        return entry;
    }

    /// <summary>Why the copies of tables cannot be kept for a while, as a sentence; null where they can.</summary>
    internal string? WhyNot(CrossingEntry entry, IReadOnlyList<TableName> tables)
    {
        var definition = entry.Stored.Definition;
        if (store is null || connections.Target(definition.Target).Find<ITableUndo>() is null)
        {
            return $"{definition.Target} cannot keep dropped tables.";
        }

        return tables.FirstOrDefault(copies.TreatmentOf(definition).IsMasked) is { Name: not null } masked
            ? $"Columns of {masked} are masked, so its copy is not kept after it is dropped."
            : copies.WhyNotAlone(entry, tables);
    }

    /// <summary>The copies of tables, which a request for them is about.</summary>
    internal IReadOnlyList<TableName> CopiesOf(CrossingEntry entry, IReadOnlyList<TableName> tables) => copies.Of(entry, tables);

    /// <summary>
    /// Takes tables away in a transaction of the target that does more, and commits it. What can be restored is known before, so that
    /// nothing is forgotten should the process end on the way.
    /// </summary>
    internal async Task TakeAwayAsync(
        ITargetTransaction transaction,
        UndoRequest request,
        IReadOnlyList<TableName> tables,
        Func<Task> commit,
        CancellationToken cancellation
    )
    {
        var undo = connections.Target(request.Connection).Find<ITableUndo>()!;
        var entries = tables.GroupBy(table => table.Schema).Select(group => EntryOf(request, [.. group], undo)).ToArray();
        await store!.AddAsync(entries, cancellation);
        try
        {
            foreach (var entry in entries)
            {
                await undo.TakeAwayAsync(transaction, entry.Id, entry.Tables, cancellation);
            }
        }
        catch
        {
            await store.RemoveAsync([.. entries.Select(entry => entry.Id)], CancellationToken.None);
            throw;
        }

        // Where nobody knows whether a commit took place, the entry stays, and is found to be nothing when its time has come.
        await commit();
    }

    internal static string Named(UndoEntry entry) => Figures.Listed([.. entry.Tables.Select(table => table.ToString())], 5);

    private UndoEntry EntryOf(UndoRequest request, IReadOnlyList<TableName> tables, ITableUndo undo)
    {
        var id = services.Random.NextInt64(0x1_0000_0000).ToString("x8", CultureInfo.InvariantCulture);
        var now = services.Clock.GetUtcNow();
        return new UndoEntry(
            id,
            request.Connection,
            request.Crossing,
            tables,
            request.Why,
            request.By,
            now,
            now + TimeSpan.FromHours(request.Hours)
        )
        {
            Place = undo.PlaceOf(id),
        };
    }

    private async Task<(UndoEntry Entry, ITableUndo Undo)> ExistingAsync(string connection, string id, CancellationToken cancellation)
    {
        var entry = store is null ? null : await store.FindAsync(id, cancellation);
        return entry?.Connection == connection && connections.Target(connection).Find<ITableUndo>() is { } undo
            ? (entry, undo)
            : throw new RequestRefusedException($"{connection} has no kept tables {id}.")
            {
                Remedy = "Look at the connection's page: what was kept is dropped when its time is over.",
            };
    }
}
