using System.Collections.Concurrent;
using Vestige.Core.Lag;
using Vestige.Core.Measures;
using Vestige.Engine.Commands;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;

namespace Vestige.Web.Measures;

/// <summary>
/// Measures of crossings beyond what is in memory. What was read is held for half a minute, since a page that is open asks each
/// second and a minute is the finest that changes. Safe for several threads.
/// </summary>
public sealed class MeasureHistory(CrossingEngine engine, IMeasureStore store, TimeProvider clock)
{
    private const int HeldAtMost = 500;
    private static readonly TimeSpan Fresh = TimeSpan.FromSeconds(30);
    private static readonly TimeSpan Shortest = TimeSpan.FromMinutes(5);
    private static readonly (string Words, TimeSpan Window, MeasureStep Step)[] Windows =
    [
        ("1 h", TimeSpan.FromHours(1), MeasureStep.Minute),
        ("24 h", TimeSpan.FromDays(1), MeasureStep.Minute),
        ("30 d", TimeSpan.FromDays(30), MeasureStep.Hour),
    ];

    private readonly ConcurrentDictionary<
        (string Crossing, TimeSpan Window, TimeSpan Ago),
        (DateTimeOffset At, IReadOnlyList<MeasureSlot> Slots)
    > held = new();

    /// <summary>
    /// The points of a window that ends now, or some time ago, oldest first; one for each slot of the finest step that reaches back so far.
    /// </summary>
    public async Task<IReadOnlyList<MeasurePoint>> PointsAsync(
        string crossing,
        TimeSpan window,
        TimeSpan ago,
        CancellationToken cancellation
    )
    {
        if (ago == TimeSpan.Zero && window <= MeasureStep.Second.Kept)
        {
            return engine.Meter(crossing)?.PointsSince(clock.GetUtcNow() - window) ?? [];
        }

        var (step, end) = (MeasureStep.For(window + ago), clock.GetUtcNow() - ago);
        return
        [
            .. (await SlotsAsync(crossing, step, window, ago, cancellation)).Slots.Select(slot => new MeasurePoint(
                slot.Start + step.Slot < end ? slot.Start + step.Slot : end,
                slot.Behind,
                slot.NotCaptured,
                slot.NotSpooled,
                slot.NotApplied,
                slot.Arrived / step.Slot.TotalSeconds,
                slot.Applied / step.Slot.TotalSeconds,
                BacklogThroughout: false
            )),
        ];
    }

    /// <summary>
    /// Delays over 5 minutes, an hour, a day and thirty days; the first of these that is longer than what was measured covers that, and
    /// none comes after it.
    /// </summary>
    public async Task<IReadOnlyList<DelayWindow>> DelaysAsync(string crossing, CancellationToken cancellation)
    {
        var (found, meter) = (new List<DelayWindow>(), engine.Meter(crossing));

        // The clock is read last: a first measure that arrives meanwhile would otherwise lie after "now".
        var measured = await FirstAsync(crossing, cancellation);
        var now = clock.GetUtcNow();
        var first = measured < now ? measured.Value : now;
        if (meter is not null)
        {
            found.Add(DelayWindow.Of("5 min", Shortest, meter.Delays(now), first, now));
        }

        foreach (var (words, window, step) in Windows.Where(_ => found is not [{ Since: not null }]))
        {
            // Kept are minutes that were over when it was read; of those since, the meter knows.
            var (at, slots) = await SlotsAsync(crossing, step, window, TimeSpan.Zero, cancellation);
            var all = meter?.DelaysSince(MeasureStep.Minute.SlotOf(at), now) ?? new DelayHistogram();
            foreach (var slot in slots)
            {
                all.Merge(slot.Delays);
            }

            found.Add(DelayWindow.Of(words, window, all, first, now));
            if (found[^1].Since is not null)
            {
                break;
            }
        }

        return found;
    }

    /// <summary>When measuring began, as far as the longest window reaches back; null where nothing was measured.</summary>
    private async Task<DateTimeOffset?> FirstAsync(string crossing, CancellationToken cancellation)
    {
        var oldest = new List<(MeasureStep Step, DateTimeOffset Start)>();
        foreach (var (_, window, step) in Windows)
        {
            var slots = (await SlotsAsync(crossing, step, window, TimeSpan.Zero, cancellation)).Slots;
            oldest.AddRange(slots.Take(1).Select(slot => (step, slot.Start)));
        }

        return FirstMeasure.Of(engine.Meter(crossing)?.FirstPointAt, oldest);
    }

    private async Task<(DateTimeOffset At, IReadOnlyList<MeasureSlot> Slots)> SlotsAsync(
        string crossing,
        MeasureStep step,
        TimeSpan window,
        TimeSpan ago,
        CancellationToken cancellation
    )
    {
        var now = clock.GetUtcNow();
        if (held.TryGetValue((crossing, window, ago), out var known) && now - known.At < Fresh)
        {
            return known;
        }

        foreach (var old in held.Where(pair => held.Count > HeldAtMost || now - pair.Value.At >= Fresh).ToList())
        {
            held.TryRemove(old);
        }

        var slots = await store.ReadAsync(crossing, step, now - ago - window, now - ago, cancellation);
        held[(crossing, window, ago)] = (now, slots);
        return (now, slots);
    }
}
