using Vestige.Core.Lag;

namespace Vestige.Core.Measures;

/// <summary>A crossing within one slot of time. Slots of a finer step add up to one of a coarser without loss. Immutable.</summary>
/// <param name="Start">The beginning of the slot.</param>
/// <param name="Samples">How often it was looked at.</param>
/// <param name="Behind">The largest lag that was seen.</param>
/// <param name="NotCaptured">Of that, the part between source head and captured.</param>
/// <param name="NotSpooled">The part between captured and spooled.</param>
/// <param name="NotApplied">The part between spooled and applied.</param>
/// <param name="Arrived">Changes that became durable in the spool.</param>
/// <param name="Applied">Changes applied.</param>
/// <param name="Delays">Delays of the transactions that were applied; not to be changed.</param>
public sealed record MeasureSlot(
    DateTimeOffset Start,
    int Samples,
    TimeSpan Behind,
    TimeSpan NotCaptured,
    TimeSpan NotSpooled,
    TimeSpan NotApplied,
    double Arrived,
    double Applied,
    DelayHistogram Delays
)
{
    /// <summary>Several slots as one; null for none.</summary>
    /// <param name="start">The beginning of the one.</param>
    /// <param name="slots">The slots, of one crossing, each counted once.</param>
    public static MeasureSlot? Sum(DateTimeOffset start, IReadOnlyCollection<MeasureSlot> slots)
    {
        ArgumentNullException.ThrowIfNull(slots);
        if (slots.Count == 0)
        {
            return null;
        }

        var worst = slots.MaxBy(slot => slot.Behind)!;
        var delays = new DelayHistogram();
        foreach (var slot in slots)
        {
            delays.Merge(slot.Delays);
        }

        return new MeasureSlot(
            start,
            slots.Sum(slot => slot.Samples),
            worst.Behind,
            worst.NotCaptured,
            worst.NotSpooled,
            worst.NotApplied,
            slots.Sum(slot => slot.Arrived),
            slots.Sum(slot => slot.Applied),
            delays
        );
    }
}
