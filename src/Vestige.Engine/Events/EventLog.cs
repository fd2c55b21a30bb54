using Microsoft.Extensions.Logging;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Events;

/// <summary>
/// Takes what happens, keeps the latest in memory for the pages and hands all of it to the store. An event that cannot be
/// stored is logged and does not stop the work it tells of. Safe for several threads.
/// </summary>
public sealed class EventLog(IControlStore store, TimeProvider clock, ILogger logger)
{
    private const int Kept = 200;
    private readonly LinkedList<CrossingEvent> latest = [];
    private readonly Lock gate = new();

    /// <summary>Grows with each event.</summary>
    public long Count { get; private set; }

    /// <summary>The latest events, newest first, at most 200.</summary>
    public IReadOnlyList<CrossingEvent> Latest
    {
        get
        {
            lock (gate)
            {
                return [.. latest];
            }
        }
    }

    public Task OfCrossingAsync(string crossing, EventKind kind, string text, string by = "engine") =>
        AddAsync(new CrossingEvent(clock.GetUtcNow(), crossing, null, kind, text, by));

    public Task OfConnectionAsync(string connection, EventKind kind, string text, string by = "engine") =>
        AddAsync(new CrossingEvent(clock.GetUtcNow(), null, connection, kind, text, by));

    /// <summary>Something of the process itself.</summary>
    public Task OfProcessAsync(EventKind kind, string text) =>
        AddAsync(new CrossingEvent(clock.GetUtcNow(), null, null, kind, text, "engine"));

    /// <summary>Fills the memory from the store at the start, oldest first.</summary>
    public void Recall(IEnumerable<CrossingEvent> events)
    {
        ArgumentNullException.ThrowIfNull(events);
        foreach (var happened in events)
        {
            Keep(happened);
        }
    }

    private async Task AddAsync(CrossingEvent happened)
    {
        Keep(happened);
        try
        {
            await store.AppendAsync(happened, CancellationToken.None);
        }
        catch (Exception exception) when (exception is Faults.PortException or IOException)
        {
            logger.LogWarning(exception, "An event could not be stored: {Text}", happened.Text);
        }
    }

    private void Keep(CrossingEvent happened)
    {
        lock (gate)
        {
            latest.AddFirst(happened);
            Count++;
            if (latest.Count > Kept)
            {
                latest.RemoveLast();
            }
        }
    }
}
