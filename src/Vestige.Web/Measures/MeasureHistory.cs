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

    /// <summary>Delays over 5 minutes, an hour, a day and thirty days.</summary>
    public async Task<IReadOnlyList<DelayWindow>> DelaysAsync(string crossing, CancellationToken cancellation)
    {
        var found = new List<DelayWindow>();
        var meter = engine.Meter(crossing);
        if (meter is not null)
        {
            found.Add(Of("5 min", TimeSpan.FromMinutes(5), meter.Delays(clock.GetUtcNow())));
        }

        foreach (var (words, window, step) in Windows)
        {
            // Kept are minutes that were over when it was read; of those since, the meter knows.
            var (at, slots) = await SlotsAsync(crossing, step, window, TimeSpan.Zero, cancellation);
            var all = meter?.DelaysSince(MeasureStep.Minute.SlotOf(at), clock.GetUtcNow()) ?? new DelayHistogram();
            foreach (var slot in slots)
            {
                all.Merge(slot.Delays);
            }

            found.Add(Of(words, window, all));
        }

        return found;
    }

    private static DelayWindow Of(string words, TimeSpan window, DelayHistogram delays) =>
        new(words, window, delays.Count, delays.Quantile(0.5), delays.Quantile(0.95), delays.Quantile(0.99));

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
