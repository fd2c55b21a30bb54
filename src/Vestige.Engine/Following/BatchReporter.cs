using Vestige.Core.Lag;
using Vestige.Core.Positions;
using Vestige.Engine.Measuring;
using Vestige.Engine.Spooling;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Following;

/// <summary>
/// Tells the meter of a crossing what was applied, how long it took and how old it was. Made when a batch is taken in hand.
/// </summary>
/// <param name="context">What the worker works with.</param>
/// <param name="apart">Whether it is of tables apart from the stream: then only their changes count, and no delay is told.</param>
internal sealed class BatchReporter(WorkerContext context, bool apart = false)
{
    private DateTimeOffset began = context.Clock.GetUtcNow();

    /// <summary>These were applied just now.</summary>
    public void Of(IReadOnlyList<SpooledFragment> fragments, ChangeTally tally, TimeSpan treating)
    {
        var now = context.Clock.GetUtcNow();
        if (apart)
        {
            context.Meter.Committed(new BatchReport(0, tally.Tallies, tally.Recent(now), [], LogPosition.Zero), now);
            return;
        }

        var spool = context.Capture.Spool;
        var changes = fragments.Sum(fragment => (long)fragment.Count);
        context.Meter.Took(now - began, changes);
        began = now;
        var delays = new List<HopDelays>(fragments.Count);
        foreach (var fragment in fragments)
        {
            if (fragment.Count > 0)
            {
                var spooled = spool.SyncedAt(fragment.Position) ?? fragment.CapturedAt;
                delays.Add(
                    HopDelays.Between(
                        fragment.CommittedAt,
                        fragment.CapturedAt,
                        spooled,
                        treating,
                        now,
                        context.Meter.Rested(spooled, now)
                    )
                );
            }
        }

        context.Meter.Committed(new BatchReport(changes, tally.Tallies, tally.Recent(now), delays, fragments[^1].Position), now);
    }
}
