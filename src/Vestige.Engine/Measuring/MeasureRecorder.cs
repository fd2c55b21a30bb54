using Microsoft.Extensions.Logging;
using Vestige.Core.Measures;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Measuring;

/// <summary>
/// Hands measures to their store, once a minute: the seconds of that minute, and the blocks of minutes and hours that they add to.
/// What cannot be stored is kept in hand for the next time, as far as blocks that are still open go. Used by the engine's timer only.
/// </summary>
public sealed class MeasureRecorder(IMeasureStore store, ILogger logger)
{
    private readonly Dictionary<string, Open> open = [];
    private DateTimeOffset kept;

    /// <summary>What a crossing's meter is to know again: of the last hour, and of what was forecast earlier.</summary>
    public async Task RecallAsync(string crossing, CrossingMeter meter, DateTimeOffset now, CancellationToken cancellation)
    {
        try
        {
            meter.Recall(await store.ReadAsync(crossing, MeasureStep.Second, now - MeasureStep.Second.Kept, now, cancellation));
            meter.Recall(await store.AppliedAsync(crossing, now - AppliedBlock.Kept, cancellation));
            foreach (var block in await store.ScoredAsync(crossing, cancellation))
            {
                meter.Recall(block.Kind, block.Judged);
            }
        }
        catch (Exception exception) when (exception is PortException or IOException or InvalidDataException)
        {
            logger.LogWarning(exception, "The measures of {Crossing} could not be recalled", crossing);
        }
    }

    /// <summary>Does nothing within a minute that was kept already.</summary>
    public async Task KeepAsync(
        IReadOnlyList<(string Crossing, CrossingMeter Meter)> crossings,
        DateTimeOffset now,
        CancellationToken cancellation
    )
    {
        var minute = MeasureStep.Minute.SlotOf(now);
        if (minute <= kept)
        {
            return;
        }

        // Of the minute before its first, a process has seen nothing itself.
        var isFirst = kept == default;
        kept = minute;
        if (isFirst)
        {
            return;
        }

        try
        {
            var (blocks, applied, judged) = (new List<MeasureBlock>(), new List<AppliedBlock>(), new List<ScoredBlock>());
            foreach (var (crossing, meter) in crossings)
            {
                await AddAsync(crossing, meter, minute, blocks, applied, cancellation);
                judged.AddRange(meter.TakeScored().Select(taken => new ScoredBlock(crossing, taken.Kind, taken.Judged)));
            }

            if (blocks.Count > 0 || judged.Count > 0)
            {
                await store.KeepAsync(blocks, applied, judged, now, cancellation);
            }
        }
        catch (Exception exception) when (exception is PortException or IOException or InvalidDataException)
        {
            logger.LogWarning(exception, "Measures could not be kept");
        }
    }

    /// <summary>A crossing is no more.</summary>
    public Task ForgetAsync(string crossing, CancellationToken cancellation)
    {
        open.Remove(crossing);
        return store.ForgetAsync(crossing, cancellation);
    }

    private async Task AddAsync(
        string crossing,
        CrossingMeter meter,
        DateTimeOffset minute,
        List<MeasureBlock> blocks,
        List<AppliedBlock> applied,
        CancellationToken cancellation
    )
    {
        var start = minute - MeasureStep.Minute.Slot;
        var (seconds, last) = meter.Seconds(start);
        if (last is not { } whole)
        {
            return;
        }

        blocks.Add(new MeasureBlock(crossing, MeasureStep.Second, MeasureStep.Second.BlockOf(start), seconds));
        var mine = await OpenAsync(crossing, start, cancellation);
        mine.Minutes.RemoveAll(slot => slot.Start >= whole.Start);
        mine.Minutes.Add(whole);
        blocks.Add(new MeasureBlock(crossing, MeasureStep.Minute, mine.Hour, [.. mine.Minutes]));

        // The hour is written again with each of its minutes, so that what the page asks for is whole at any time.
        mine.Hours.RemoveAll(slot => slot.Start >= mine.Hour);
        mine.Hours.Add(MeasureSlot.Sum(mine.Hour, mine.Minutes)!);
        blocks.Add(new MeasureBlock(crossing, MeasureStep.Hour, MeasureStep.Hour.BlockOf(start), [.. mine.Hours]));
        if (meter.AppliedIn(start) is { } upto)
        {
            mine.Applied.Add(upto);
            applied.Add(new AppliedBlock(crossing, mine.Hour, [.. mine.Applied]));
        }
    }

    /// <summary>The minutes of the present hour and the hours of the present day, as the store has them after a restart.</summary>
    private async Task<Open> OpenAsync(string crossing, DateTimeOffset start, CancellationToken cancellation)
    {
        var (hour, day) = (MeasureStep.Minute.BlockOf(start), MeasureStep.Hour.BlockOf(start));
        if (!open.TryGetValue(crossing, out var mine) || mine.Day != day)
        {
            var hours = await store.ReadAsync(crossing, MeasureStep.Hour, day, start, cancellation);
            mine = new Open(day)
            {
                Hour = hour,
                Minutes = [.. await store.ReadAsync(crossing, MeasureStep.Minute, hour, start, cancellation)],
                Hours = [.. hours],
                Applied = [.. await store.AppliedAsync(crossing, hour, cancellation)],
            };
            open[crossing] = mine;
        }
        else if (mine.Hour != hour)
        {
            mine.Hour = hour;
            mine.Minutes = [];
            mine.Applied = [];
        }

        return mine;
    }

    private sealed class Open(DateTimeOffset day)
    {
        public DateTimeOffset Day => day;

        public DateTimeOffset Hour { get; set; }

        public List<MeasureSlot> Minutes { get; set; } = [];

        public List<MeasureSlot> Hours { get; set; } = [];

        public List<AppliedTime> Applied { get; set; } = [];
    }
}
