using System.Collections.Concurrent;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Web.Connections;

/// <summary>
/// Row counts for pages, asked at most every few seconds however many pages look, and of large tables once a minute: a page that is open
/// must not read a production table again and again.
/// </summary>
public sealed class RowCounts(ConnectionDirectory connections, TimeProvider clock)
{
    private const int HeldAtMost = 10_000;
    private static readonly TimeSpan Fresh = TimeSpan.FromSeconds(4);
    private static readonly TimeSpan FreshOfLarge = TimeSpan.FromMinutes(1);
    private readonly ConcurrentDictionary<
        (string Connection, TableName Table, SharedRows? Only),
        (RowCount? Count, DateTimeOffset At)
    > counts = new();

    /// <summary>The count; null when the table cannot be read just now, and where the system tells no single rows.</summary>
    public async Task<RowCount?> OfAsync(string connection, TableName table, SharedRows? only, CancellationToken cancellation)
    {
        var now = clock.GetUtcNow();
        if (counts.TryGetValue((connection, table, only), out var known) && now - known.At < FreshFor(known.Count))
        {
            return known.Count;
        }

        if (counts.Count > HeldAtMost)
        {
            counts.Clear();
        }

        RowCount? count;
        try
        {
            count = connections.Find<IRowLookup>(connection) is { } lookup ? await lookup.EstimateAsync(table, only, cancellation) : null;
        }
        catch (PortException)
        {
            count = null;
        }

        counts[(connection, table, only)] = (count, now);
        return count;
    }

    private static TimeSpan FreshFor(RowCount? count) => count is { Precision: not RowPrecision.Exact } ? FreshOfLarge : Fresh;
}
