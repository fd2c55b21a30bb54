using Microsoft.Extensions.Logging;
using Vestige.Engine.Commands;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Undoing;

/// <summary>Drops tables that were kept to be restored, once a minute those whose time is over.</summary>
internal sealed class UndoSweep(EngineServices services, IUndoStore store)
{
    private static readonly TimeSpan LookEvery = TimeSpan.FromMinutes(1);
    private readonly Dictionary<string, string> told = [];

    public async Task RunAsync(CancellationToken ending)
    {
        await Task.Yield();
        while (!ending.IsCancellationRequested)
        {
            try
            {
                await Task.Delay(services.Options.LookEvery ?? LookEvery, services.Clock, ending);
                var now = services.Clock.GetUtcNow();
                foreach (var entry in (await store.ListAsync(ending)).Where(entry => entry.Until <= now))
                {
                    await DropAsync(entry, ending);
                }
            }
            catch (OperationCanceledException) when (ending.IsCancellationRequested)
            {
                return;
            }
            catch (Exception exception) when (exception is StoreException or IOException)
            {
                services.Logger.LogWarning(exception, "Tables whose time is over could not be looked for");
            }
        }
    }

    private async Task DropAsync(UndoEntry entry, CancellationToken ending)
    {
        try
        {
            if (services.Connections.Target(entry.Connection).Find<ITableUndo>() is { } undo)
            {
                await undo.DropAsync(entry.Id, ending);
            }

            await store.RemoveAsync([entry.Id], ending);
            told.Remove(entry.Id);
            await services.Events.OfConnectionAsync(
                entry.Connection,
                EventKind.Note,
                $"Dropped, since the time to restore is over: {TableUndo.Named(entry)}."
            );
        }
        catch (RequestRefusedException exception)
        {
            // The connection is gone, and nobody can be asked to drop them.
            services.Logger.LogWarning(exception, "Kept tables {Id} stay where they are", entry.Id);
            await store.RemoveAsync([entry.Id], ending);
        }
        catch (PortException exception)
        {
            if (told.GetValueOrDefault(entry.Id) != exception.Message)
            {
                told[entry.Id] = exception.Message;
                await services.Events.OfConnectionAsync(
                    entry.Connection,
                    EventKind.Warning,
                    $"Kept tables could not be dropped: {TableUndo.Named(entry)}. {exception.Message}"
                );
            }
        }
    }
}
