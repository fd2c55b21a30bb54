using System.Collections.Concurrent;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Measuring;

/// <summary>
/// Since when tables of one crossing are held: since they were first seen to be; of those that were held when the process started, since
/// the event that reported it. Safe for several threads.
/// </summary>
internal sealed class HeldTimes
{
    private static readonly Seen Free = new(IsHeld: false, null);
    private readonly ConcurrentDictionary<TableName, Seen> known = new();

    /// <summary>Since when a table is held; null when it is not, or that is not known.</summary>
    /// <param name="table">The source's table.</param>
    /// <param name="isHeld">Whether it is held now.</param>
    /// <param name="now">The moment.</param>
    /// <param name="reported">When the latest event reported it; asked only of a table that was held from the start.</param>
    public DateTimeOffset? Of(TableName table, bool isHeld, DateTimeOffset now, Func<TableName, DateTimeOffset?> reported)
    {
        ArgumentNullException.ThrowIfNull(reported);
        var last = known.GetValueOrDefault(table);
        if (last is null || last.IsHeld != isHeld)
        {
            last =
                !isHeld ? Free
                : last is null ? new Seen(IsHeld: true, reported(table))
                : new Seen(IsHeld: true, now);
            known[table] = last;
        }

        return last.Since;
    }

    /// <summary>How the event begins that reports a table being held.</summary>
    public static string TextOf(TableName table) => $"{table} is held. ";

    private sealed record Seen(bool IsHeld, DateTimeOffset? Since);
}
