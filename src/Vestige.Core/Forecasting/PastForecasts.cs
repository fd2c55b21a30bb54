namespace Vestige.Core.Forecasting;

/// <summary>
/// How good forecasts of one kind were: each is held against when what it was about did happen. Not safe for several threads.
/// </summary>
public sealed class PastForecasts
{
    private const int Kept = 200;
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(10);
    private readonly List<(DateTimeOffset Made, ForecastTime Forecast)> open = [];
    private readonly Queue<(double Error, bool Within)> judged = [];

    /// <summary>How many were judged, by what part of the time it took half of them were off at most, and which part of all had it within their range; null when none was.</summary>
    public ForecastQuality? Quality { get; private set; }

    /// <summary>Takes the forecast of a moment; one every ten seconds is kept until it has happened.</summary>
    /// <param name="now">The moment.</param>
    /// <param name="forecast">What is forecast; only one that says when is held against the outcome.</param>
    public void Note(DateTimeOffset now, ForecastTime forecast)
    {
        ArgumentNullException.ThrowIfNull(forecast);
        if (forecast.In is not null && (open.Count == 0 || now - open[^1].Made >= Every))
        {
            open.Add((now, forecast));
            if (open.Count > Kept)
            {
                open.RemoveAt(0);
            }
        }
    }

    /// <summary>It will not happen by itself: it rests, or was given up. What was forecast is held against nothing.</summary>
    public void Interrupted() => open.Clear();

    /// <summary>It has happened.</summary>
    public void Happened(DateTimeOffset now)
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

        Quality = judged.Count == 0
            ? null
            : new ForecastQuality(judged.Count, Forecast.NearestRank([.. judged.Select(one => one.Error)], 0.5)!.Value, judged.Count(one => one.Within) / (double)judged.Count);
    }
}
