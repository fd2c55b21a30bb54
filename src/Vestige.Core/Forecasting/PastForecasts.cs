namespace Vestige.Core.Forecasting;

/// <summary>
/// How good forecasts of one kind were: each is held against when what it was about did happen. Not safe for several threads.
/// </summary>
public sealed class PastForecasts
{
    /// <summary>So many that were judged are remembered, the latest.</summary>
    public const int Kept = 200;

    private const double NearEnough = 0.5;
    private static readonly TimeSpan Every = TimeSpan.FromSeconds(10);
    private readonly List<(DateTimeOffset Made, ForecastTime Forecast)> open = [];
    private readonly Queue<ScoredForecast> judged = [];

    /// <summary>
    /// How many were judged, by what part of the time it took half of them were off at most, and which part of all had it within their
    /// range; null when none was.
    /// </summary>
    public ForecastQuality? Quality { get; private set; }

    /// <summary>Those that were judged, the oldest first; the caller's own.</summary>
    public IReadOnlyList<ScoredForecast> Judged => [.. judged];

    /// <summary>Takes those that were judged earlier, the oldest first, before any of its own.</summary>
    public void Recall(IReadOnlyList<ScoredForecast> earlier)
    {
        ArgumentNullException.ThrowIfNull(earlier);
        ScoredForecast[] own = [.. judged];
        judged.Clear();
        foreach (var one in earlier.Concat(own))
        {
            judged.Enqueue(one);
        }

        Judge();
    }

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
    /// <returns>Whether a forecast was judged by that.</returns>
    public bool Happened(DateTimeOffset now)
    {
        var isJudged = false;
        foreach (var (made, forecast) in open)
        {
            // One made just before the end says nothing.
            var took = now - made;
            if (took >= Every)
            {
                judged.Enqueue(
                    new ScoredForecast(Math.Abs((forecast.In!.Value - took) / took), forecast.Soonest <= took && !(forecast.Latest < took))
                );
                isJudged = true;
            }
        }

        open.Clear();
        Judge();
        return isJudged;
    }

    private void Judge()
    {
        while (judged.Count > Kept)
        {
            judged.Dequeue();
        }

        Quality =
            judged.Count == 0
                ? null
                : new ForecastQuality(
                    judged.Count,
                    Forecast.NearestRank([.. judged.Select(one => one.Error)], 0.5)!.Value,
                    judged.Count(one => one.Error <= NearEnough),
                    judged.Count(one => one.Within) / (double)judged.Count
                );
    }
}
