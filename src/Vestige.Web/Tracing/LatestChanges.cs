using System.Collections.Concurrent;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Tracing;

/// <summary>
/// The latest changes that a crossing applied to a table. Those of a quiet table are pushed out of memory by others, and a restart
/// empties it; then the spool is asked, for each table when it has changed, or once a minute. Safe for several threads.
/// </summary>
public sealed class LatestChanges(CrossingEngine engine, TimeProvider clock)
{
    private const int Most = 12;
    private const int RememberedAtMost = 500;
    private static readonly TimeSpan AskAgain = TimeSpan.FromMinutes(1);
    private readonly ConcurrentDictionary<(string Crossing, TableName Table), Held> held = new();

    /// <summary>Newest first, at most twelve.</summary>
    public async Task<IReadOnlyList<RecentChange>> OfAsync(CrossingStatus crossing, TableName table, CancellationToken cancellation)
    {
        ArgumentNullException.ThrowIfNull(crossing);
        var meter = engine.Meter(crossing.Name);
        var recent = (meter?.Recent ?? []).Where(change => change.Table == table).Take(Most).ToList();
        if (recent.Count > 0)
        {
            return recent;
        }

        var (key, now, changes) = ((crossing.Name, table), clock.GetUtcNow(), meter?.TallyOf(table).Total ?? 0);
        if (!held.TryGetValue(key, out var known) || now - known.At > AskAgain || known.Changes != changes)
        {
            var found = await engine.Trace.LatestAsync(crossing.Definition.Source, table, Most, cancellation);
            if (held.Count > RememberedAtMost)
            {
                held.Clear();
            }

            held[key] = known = new Held(now, changes, found);
        }

        return [.. known.Found.Where(change => change.Position <= crossing.AppliedPosition)];
    }

    private sealed record Held(DateTimeOffset At, long Changes, IReadOnlyList<RecentChange> Found);
}
