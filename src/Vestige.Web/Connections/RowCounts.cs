using System.Collections.Concurrent;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Web.Connections;

/// <summary>Row counts for pages, counted at most every few seconds however many pages look.</summary>
public sealed class RowCounts(ConnectionDirectory connections, TimeProvider clock)
{
    private static readonly TimeSpan Fresh = TimeSpan.FromSeconds(4);
    private readonly ConcurrentDictionary<(string Connection, TableName Table, SharedRows? Only), (long? Count, DateTimeOffset At)> counts =
        new();

    /// <summary>The count; null when the table cannot be read just now, and where the system tells no single rows.</summary>
    public async Task<long?> OfAsync(string connection, TableName table, SharedRows? only, CancellationToken cancellation)
    {
        var now = clock.GetUtcNow();
        if (counts.TryGetValue((connection, table, only), out var known) && now - known.At < Fresh)
        {
            return known.Count;
        }

        long? count;
        try
        {
            count = connections.Find<IRowLookup>(connection) is { } lookup ? await lookup.CountAsync(table, only, cancellation) : null;
        }
        catch (PortException)
        {
            count = null;
        }

        counts[(connection, table, only)] = (count, now);
        return count;
    }
}
