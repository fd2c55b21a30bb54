using Vestige.Core.Forecasting;
using Vestige.Engine.Capturing;
using Vestige.Engine.Spooling;

namespace Vestige.Engine.Measuring;

/// <summary>When what a crossing leaves fills the spool, and the source's log after it.</summary>
internal static class ExhaustionReader
{
    /// <param name="crossing">The crossing.</param>
    /// <param name="clears">How its backlog goes: the part of what arrives that it leaves adds to what is needed of the spool.</param>
    /// <param name="spool">The spool of its source.</param>
    /// <param name="log">The reading of its source.</param>
    /// <param name="now">The moment. A log that is not read has grown since it was last sampled.</param>
    public static LogExhaustion Read(string crossing, ClearingForecast clears, Spool spool, CaptureStatus log, DateTimeOffset now)
    {
        // Where another fills the spool, the log is not read for its sake.
        if (spool.NeededBy(crossing) is not { } needed || (!log.Running && spool.Full && needed < log.SpoolBudget))
        {
            return LogExhaustion.None;
        }

        var unseen = log.Running ? 0 : log.LogGrowth.Median * Math.Max(0, (now - log.SampledAt).TotalSeconds);
        return Forecast.WhenExhausted(
            new StoreLevel(needed, log.SpoolBudget, log.SpoolGrowth.Part(clears.Left)),
            new StoreLevel(log.LogBytes + (long)unseen, log.LogLimit, log.LogGrowth),
            log.Running
        );
    }
}
