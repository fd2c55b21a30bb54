using Vestige.Core.Crossings;
using Vestige.Core.Lag;
using Vestige.Core.Text;
using Vestige.Engine.Capturing;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Measuring;

/// <summary>Says in words where the delay of a crossing comes from.</summary>
internal static class DelayCause
{
    private static readonly TimeSpan Long = TimeSpan.FromSeconds(1);

    /// <summary>Delays below this are as short as they get, and have no cause worth telling.</summary>
    private static readonly TimeSpan Short = TimeSpan.FromMilliseconds(100);

    /// <summary>Null when nothing delays it.</summary>
    /// <param name="definition">What it carries and to where.</param>
    /// <param name="view">What its worker does; null when none runs.</param>
    /// <param name="log">The reading of its source; null when that is not running.</param>
    /// <param name="meter">What it has done lately.</param>
    /// <param name="diagnosis">What the target says the call in hand waits for; null when it says nothing.</param>
    /// <param name="now">The moment.</param>
    public static string? Of(
        CrossingDefinition definition,
        WorkerView? view,
        CaptureStatus? log,
        CrossingMeter meter,
        string? diagnosis,
        DateTimeOffset now
    )
    {
        if (log is { Running: false } cut)
        {
            return $"The log of {definition.Source} is not being read. {cut.Waiting}";
        }

        if (view is null or { Ended: true })
        {
            return null;
        }

        if (view.Waiting is { } waiting)
        {
            return waiting.What;
        }

        if (view.Resting is { } resting)
        {
            return resting;
        }

        if (view.InHand is { } hand && now - hand.Since > Long)
        {
            var what = hand.Large
                ? $"one transaction, of which {Figures.Of(hand.Changes, "change")} have been read so far"
                : $"a batch of {Figures.Of(hand.Changes, "change")}";
            return $"{definition.Target} has been at {what} for "
                + $"{Figures.Duration(now - hand.Since)}{(diagnosis is null ? "" : $": {diagnosis}")}.";
        }

        return meter.MeanHops(now) is { } hops && hops.Total > Short ? OfHop(definition, hops, meter) : null;
    }

    private static string OfHop(CrossingDefinition definition, HopDelays hops, CrossingMeter meter)
    {
        var share = Math.Round(hops.Shares.Max());
        var (took, changes) = meter.LastTook;
        return hops.Largest switch
        {
            "capture" =>
                $"{share} % of the delay is reading: {definition.Source} hands its log over {Figures.Duration(hops.Capture)} after "
                    + "the commit.",
            "spool" =>
                $"{share} % of the delay is the disk of the data folder: it takes {Figures.Duration(hops.Spool)} until a transaction "
                    + "is durable there.",
            "treatment" => $"{share} % of the delay is the treatment of the rows: {Figures.Duration(hops.Treatment)} for a batch.",
            _ => $"{share} % of the delay is waiting for {definition.Target}: it took {Figures.Duration(took)} for the last "
                + $"{Figures.Of(changes, "change")}.",
        };
    }
}
