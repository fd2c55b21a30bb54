namespace Vestige.Core.Forecasting;

/// <summary>
/// How good forecasts of clearing were: each is held against when the backlog did clear. Not safe for several threads.
/// </summary>
public sealed class PastForecasts
{
    private const int Kept = 200;
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(10);
    private readonly List<(DateTimeOffset Made, ClearingForecast Forecast)> open = [];
    private readonly Queue<(double Error, bool Within)> judged = [];

    /// <summary>Takes the forecast of a moment; one every ten seconds is kept, until the backlog is gone.</summary>
    /// <param name="now">The moment.</param>
    /// <param name="forecast">What is forecast; only one that says when is held against the outcome.</param>
    /// <param name="cleared">Whether the backlog is gone.</param>
    public void Note(DateTimeOffset now, ClearingForecast forecast, bool cleared)
    {
        ArgumentNullException.ThrowIfNull(forecast);
        if (cleared)
        {
            Judge(now);
        }
        else if (forecast.In is not null && (open.Count == 0 || now - open[^1].Made >= Every))
        {
            open.Add((now, forecast));
            if (open.Count > Kept)
            {
                open.RemoveAt(0);
            }
        }
    }

    /// <summary>The backlog will not clear by itself: it rests, or was given up. What was forecast is held against nothing.</summary>
    public void Interrupted() => open.Clear();

    /// <summary>How many were judged, by what part of the time it took half of them were off at most, and which part of all had it within their range; null when none was.</summary>
    public ForecastQuality? Quality => judged.Count == 0
        ? null
        : new ForecastQuality(judged.Count, Forecast.NearestRank([.. judged.Select(one => one.Error)], 0.5)!.Value, judged.Count(one => one.Within) / (double)judged.Count);

    private void Judge(DateTimeOffset now)
    {
        foreach (var (made, forecast) in open)
        {
            // One made just before the end says nothing.
            var took = now - made;
            if (took >= Every)
            {
                judged.Enqueue((Math.Abs((forecast.In!.Value - took) / took), forecast.Soonest <= took && !(forecast.Latest < took)));
            }
        }

        open.Clear();
        while (judged.Count > Kept)
        {
            judged.Dequeue();
        }
    }
}
