using System.Security.Cryptography;
using System.Text.Json;
using Microsoft.Extensions.Logging;
using Vestige.Engine.Capturing;
using Vestige.Engine.Commands;
using Vestige.Engine.Concurrency;
using Vestige.Engine.Events;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.SchemaVersions;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Workers;

/// <summary>The one capture of each source connection, started when a crossing first needs it.</summary>
internal sealed class Captures(EngineServices services, MissingBefore missing) : IAsyncDisposable
{
    private readonly IConnections connections = services.Connections;
    private readonly EventLog events = services.Events;
    private readonly TimeProvider clock = services.Clock;
    private readonly ILogger logger = services.Logger;
    private readonly Dictionary<string, Capture> captures = [];
    private readonly AsyncLock opening = new();
    private readonly Lock gate = new();

    public Capture? Find(string connection)
    {
        lock (gate)
        {
            return captures.GetValueOrDefault(connection);
        }
    }

    public IReadOnlyList<Capture> All
    {
        get
        {
            lock (gate)
            {
                return [.. captures.Values];
            }
        }
    }

    /// <summary>Opens the spool and starts reading, once.</summary>
    /// <param name="connection">The source connection.</param>
    /// <param name="holding">The crossings whose place is to be kept; registered before anything can be trimmed.</param>
    /// <param name="cancellation">Gives up waiting.</param>
    public async Task<Capture> OpenAsync(string connection, IEnumerable<string> holding, CancellationToken cancellation)
    {
        using var locked = await opening.EnterAsync(cancellation);
        if (Find(connection) is { } known)
        {
            return known;
        }

        var spool = await OpenSpoolAsync(connection, cancellation);
        foreach (var crossing in holding)
        {
            spool.Retain(crossing, null);
        }

        var capture = new Capture(
            connection,
            () => connections.Source(connection).Log,
            spool,
            clock,
            services.Random,
            events,
            logger,
            missing
        )
        {
            History = services.Stores.SchemaVersions is { } versions ? new SchemaHistory(connection, versions, events, clock) : null,
        };
        capture.Start();
        lock (gate)
        {
            captures.Add(connection, capture);
        }

        return capture;
    }

    private async Task<Spool> OpenSpoolAsync(string connection, CancellationToken cancellation)
    {
        try
        {
            return await Spool.OpenAsync(
                connections.SpoolOf(connection),
                services.Secrets.Spool,
                services.Options.Spool,
                clock,
                cancellation
            );
        }
        catch (Exception exception) when (exception is CryptographicException or InvalidDataException or JsonException or ArgumentException)
        {
            throw new PortException(
                $"The spool of {connection} cannot be read: it is damaged, or another installation wrote it "
                    + $"({exception.Message.TrimEnd('.')}).",
                exception
            )
            {
                Remedy =
                    $"Restore the data folder from a backup. Or delete the folder spool/{connection} in the data folder, restart "
                    + "Vestige, and reload the crossings of this source.",
            };
        }
    }

    /// <summary>
    /// No crossing needs the source's log any more: reading ends, the spool is emptied, and the source need not keep its log.
    /// </summary>
    public async Task EndAsync(string connection, CancellationToken cancellation)
    {
        using var locked = await opening.EnterAsync(cancellation);
        if (Find(connection) is not { } capture)
        {
            return;
        }

        lock (gate)
        {
            captures.Remove(connection);
        }

        try
        {
            await capture.EndAsync(cancellation);
            await connections.Source(connection).Log.EndLogAsync(cancellation);
        }
        catch (Exception exception) when (exception is PortException or IOException)
        {
            logger.LogWarning(exception, "The reading of {Connection} could not be ended", connection);
            await events.OfConnectionAsync(
                connection,
                EventKind.Warning,
                $"No crossing needs the log any more, but the source may still keep it: {exception.Message}"
            );
        }
    }

    public async ValueTask DisposeAsync()
    {
        foreach (var capture in All)
        {
            await capture.DisposeAsync();
        }
    }
}
