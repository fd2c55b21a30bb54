namespace Vestige.Engine.Faults;

/// <summary>
/// How long to wait before the next try: doubling from 200 ms to 30 s, half of it random, so that many workers do not
/// come back at once (exponential backoff with jitter; common practice, no source).
/// </summary>
public static class RetryPause
{
    public static readonly TimeSpan First = TimeSpan.FromMilliseconds(200);
    public static readonly TimeSpan Longest = TimeSpan.FromSeconds(30);

    /// <param name="attempt">1 for the first failure.</param>
    /// <param name="random">The source of the jitter.</param>
    public static TimeSpan Before(int attempt, Random random)
    {
        ArgumentNullException.ThrowIfNull(random);
        var full = Math.Min(Longest.TotalSeconds, First.TotalSeconds * Math.Pow(2, Math.Clamp(attempt - 1, 0, 20)));
        return TimeSpan.FromSeconds(full * (0.5 + (random.NextDouble() / 2)));
    }
}
