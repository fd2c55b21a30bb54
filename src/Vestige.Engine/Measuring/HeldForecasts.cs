using Vestige.Core.Forecasting;

namespace Vestige.Engine.Measuring;

/// <summary>What was forecast of one crossing, held against what has happened. Not safe for several threads.</summary>
internal sealed class HeldForecasts
{
    private readonly PastForecasts clearings = new();
    private readonly PastForecasts loads = new();

    /// <summary>How good forecasts of clearing and of loads were; null while none was held against the outcome.</summary>
    public (ForecastQuality? Clearing, ForecastQuality? Load) Qualities => (clearings.Quality, loads.Quality);

    /// <summary>Takes what is forecast now, once a second, and holds what was forecast before against what has happened.</summary>
    /// <param name="clears">When the backlog clears; null while the crossing rests, for then nothing clears.</param>
    /// <param name="cleared">Whether nothing waits.</param>
    /// <param name="load">When the load at hand ends; null when none is.</param>
    /// <param name="loaded">Whether the load that was at hand is done, where none is any more.</param>
    /// <param name="now">The moment.</param>
    public void Note(ForecastTime? clears, bool cleared, ForecastTime? load, bool loaded, DateTimeOffset now)
    {
        Hold(clearings, clears, clears is not null && cleared, now);
        Hold(loads, load, load is null && loaded, now);
    }

    private static void Hold(PastForecasts past, ForecastTime? forecast, bool happened, DateTimeOffset now)
    {
        if (happened)
        {
            past.Happened(now);
        }
        else if (forecast is null)
        {
            past.Interrupted();
        }
        else
        {
            past.Note(now, forecast);
        }
    }
}
