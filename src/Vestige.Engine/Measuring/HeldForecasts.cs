using Vestige.Core.Forecasting;

namespace Vestige.Engine.Measuring;

/// <summary>What was forecast of one crossing, held against what has happened. Not safe for several threads.</summary>
internal sealed class HeldForecasts
{
    private readonly Dictionary<ForecastKind, PastForecasts> past = Enum.GetValues<ForecastKind>()
        .ToDictionary(kind => kind, _ => new PastForecasts());
    private readonly HashSet<ForecastKind> unkept = [];

    /// <summary>How good they were.</summary>
    public ForecastQualities Qualities =>
        new(
            past[ForecastKind.Clearing].Quality,
            past[ForecastKind.Load].Quality,
            past[ForecastKind.SpoolFull].Quality,
            past[ForecastKind.LogLost].Quality
        );

    /// <summary>Takes what is forecast now, once a second, and holds what was forecast before against what has happened.</summary>
    /// <param name="kind">What it is about.</param>
    /// <param name="forecast">
    /// When it happens; null when it does not by itself, so that nothing can be held against what was forecast.
    /// </param>
    /// <param name="happened">Whether it is so now.</param>
    /// <param name="now">The moment.</param>
    public void Note(ForecastKind kind, ForecastTime? forecast, bool happened, DateTimeOffset now)
    {
        if (happened)
        {
            if (past[kind].Happened(now))
            {
                unkept.Add(kind);
            }
        }
        else if (forecast is null)
        {
            past[kind].Interrupted();
        }
        else
        {
            past[kind].Note(now, forecast);
        }
    }

    /// <summary>Takes what an earlier process has judged, before anything of its own.</summary>
    public void Recall(ForecastKind kind, IReadOnlyList<ScoredForecast> judged) => past[kind].Recall(judged);

    /// <summary>What was judged since this was asked last, with all of its kind, to be stored.</summary>
    public IReadOnlyList<(ForecastKind Kind, IReadOnlyList<ScoredForecast> Judged)> TakeUnkept()
    {
        List<(ForecastKind, IReadOnlyList<ScoredForecast>)> taken = [.. unkept.Select(kind => (kind, past[kind].Judged))];
        unkept.Clear();
        return taken;
    }
}
