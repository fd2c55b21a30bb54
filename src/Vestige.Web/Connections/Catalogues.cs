using System.Collections.Concurrent;
using Vestige.Engine.Ports;

namespace Vestige.Web.Connections;

/// <summary>
/// The tables of connections as pages need them while a person types: read at most once a minute, however many pages look. A
/// plan and a start read them again. Safe for several threads.
/// </summary>
public sealed class Catalogues(ConnectionDirectory connections, TimeProvider clock)
{
    private static readonly TimeSpan Fresh = TimeSpan.FromMinutes(1);
    private readonly ConcurrentDictionary<string, (IReadOnlyList<TableDescription> Tables, DateTimeOffset At)> read = new();
    private readonly ConcurrentDictionary<string, SemaphoreSlim> turns = new();

    /// <summary>
    /// The tables of a connection that is known; throws <see cref="Vestige.Engine.Faults.PortException"/> when they cannot be read.
    /// </summary>
    public async Task<IReadOnlyList<TableDescription>> OfAsync(string connection, bool anew, CancellationToken cancellation)
    {
        if (!anew && Known(connection) is { } known)
        {
            return known;
        }

        var turn = turns.GetOrAdd(connection, _ => new SemaphoreSlim(1));
        await turn.WaitAsync(cancellation);
        try
        {
            if (!anew && Known(connection) is { } meanwhile)
            {
                return meanwhile;
            }

            var tables = await connections.Source(connection).Catalogue.ReadTablesAsync(cancellation);
            read[connection] = (tables, clock.GetUtcNow());
            return tables;
        }
        finally
        {
            turn.Release();
        }
    }

    /// <summary>A connection leads elsewhere, or someone has just changed its tables.</summary>
    public void Forget(string connection) => read.TryRemove(connection, out _);

    private IReadOnlyList<TableDescription>? Known(string connection) =>
        read.TryGetValue(connection, out var known) && clock.GetUtcNow() - known.At < Fresh ? known.Tables : null;
}
