using System.Collections.Concurrent;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Web.Connections;

/// <summary>
/// Row counts for pages, asked at most every few seconds however many pages look, and of large tables once a minute: a page that is open
/// must not read a production table again and again. A few are asked at once per connection, and a page waits for them only a moment: a
/// server that does not answer makes no page slow. Safe for several threads.
/// </summary>
public sealed class RowCounts(ConnectionDirectory connections, TimeProvider clock) : IDisposable
{
    private const int HeldAtMost = 10_000;
    private const int AtOnce = 4;
    private static readonly TimeSpan Fresh = TimeSpan.FromSeconds(4);
    private static readonly TimeSpan FreshOfLarge = TimeSpan.FromMinutes(1);

    /// <summary>How long a page waits for its counts. What comes later is shown when the page is drawn next.</summary>
    private static readonly TimeSpan Patience = TimeSpan.FromMilliseconds(60);

    private readonly ConcurrentDictionary<CountedRows, (RowCount? Count, DateTimeOffset At)> counts = new();
    private readonly ConcurrentDictionary<CountedRows, Lazy<Task<RowCount?>>> running = new();
    private readonly ConcurrentDictionary<string, SemaphoreSlim> turns = new();
    private readonly CancellationTokenSource stop = new();

    /// <summary>
    /// The count; null when the table cannot be read just now, and where the system tells no single rows. What could not be counted before
    /// is tried again.
    /// </summary>
    public Task<RowCount?> OfAsync(CountedRows rows, CancellationToken cancellation) =>
        Known(rows, FreshFor) is { Count: not null } known ? Task.FromResult(known.Count) : Counting(rows).WaitAsync(cancellation);

    /// <summary>
    /// The counts, in the order in which they were asked for: those that answer within a moment, else what was counted within the last
    /// minute; null where neither is known.
    /// </summary>
    public async Task<IReadOnlyList<RowCount?>> SoonAsync(IReadOnlyList<CountedRows> asked, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(asked);
        var outstanding = asked.Where(rows => Known(rows, FreshFor) is null).Select(Counting).ToList();
        var answered = Task.WhenAll(outstanding);
        if (await Task.WhenAny(answered, Task.Delay(Patience, clock, cancellation)) != answered)
        {
            cancellation.ThrowIfCancellationRequested();
        }

        return [.. asked.Select(rows => Known(rows, _ => FreshOfLarge)?.Count)];
    }

    public void Dispose()
    {
        stop.Cancel();
        stop.Dispose();
    }

    private (RowCount? Count, DateTimeOffset At)? Known(CountedRows rows, Func<RowCount?, TimeSpan> goodFor) =>
        counts.TryGetValue(rows, out var known) && clock.GetUtcNow() - known.At < goodFor(known.Count) ? known : null;

    /// <summary>The count that is under way, or a new one. It never fails.</summary>
    private Task<RowCount?> Counting(CountedRows rows) =>
        running.GetOrAdd(rows, key => new Lazy<Task<RowCount?>>(() => CountAsync(key))).Value;

    private async Task<RowCount?> CountAsync(CountedRows rows)
    {
        var turn = turns.GetOrAdd(rows.Connection, _ => new SemaphoreSlim(AtOnce));
        try
        {
            await turn.WaitAsync(stop.Token);
            try
            {
                // On a thread of its own: a connector may read without giving the thread back, and no page waits for that.
                return Keep(rows, await Task.Run(() => AskAsync(rows), stop.Token));
            }
            finally
            {
                turn.Release();
            }
        }
        catch (OperationCanceledException)
        {
            return null;
        }
        finally
        {
            running.TryRemove(rows, out _);
        }
    }

    private async Task<RowCount?> AskAsync(CountedRows rows)
    {
        try
        {
            return connections.Find<IRowLookup>(rows.Connection) is { } lookup
                ? await lookup.EstimateAsync(rows.Table, rows.Only, stop.Token)
                : null;
        }
        catch (PortException)
        {
            return null;
        }
    }

    private RowCount? Keep(CountedRows rows, RowCount? count)
    {
        if (counts.Count > HeldAtMost)
        {
            counts.Clear();
        }

        counts[rows] = (count, clock.GetUtcNow());
        return count;
    }

    private static TimeSpan FreshFor(RowCount? count) => count is { Precision: not RowPrecision.Exact } ? FreshOfLarge : Fresh;
}
