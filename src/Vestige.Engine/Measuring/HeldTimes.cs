using System.Collections.Concurrent;
using Vestige.Core.Schemas;
using Vestige.Engine.Events;

namespace Vestige.Engine.Measuring;

/// <summary>
/// Since when tables are held: since they were first seen to be; of those that were held when the process started, since the event that
/// told of it, as long as that is among the latest. Safe for several threads.
/// </summary>
internal sealed class HeldTimes(EventLog events, TimeProvider clock)
{
    private static readonly Seen Free = new(IsHeld: false, null);
    private readonly ConcurrentDictionary<(string Crossing, TableName Table), Seen> known = new();

    /// <summary>Since when a table is held; null when it is not, or that is not known.</summary>
    public DateTimeOffset? Of(string crossing, TableName table, bool isHeld)
    {
        var last = known.GetValueOrDefault((crossing, table));
        if (!isHeld)
        {
            known[(crossing, table)] = Free;
            return null;
        }

        if (last is not { IsHeld: true })
        {
            last = new Seen(IsHeld: true, last is null ? events.Latest.FirstOrDefault(IsIt)?.At : clock.GetUtcNow());
            known[(crossing, table)] = last;
        }

        return last.Since;

        bool IsIt(CrossingEvent happened) =>
            happened.Crossing == crossing && happened.Text.StartsWith(TextOf(table), StringComparison.Ordinal);
    }

    /// <summary>How the event begins that tells of a table being held.</summary>
    public static string TextOf(TableName table) => $"{table} is held. ";

    private sealed record Seen(bool IsHeld, DateTimeOffset? Since);
}
