namespace Vestige.Core.Lag;

/// <summary>What "behind" means. Pure; times of the source are corrected by the measured clock difference before.</summary>
public static class LagRule
{
    /// <param name="now">The present.</param>
    /// <param name="oldestUnapplied">
    /// Commit time of the first captured transaction, in log order, not yet applied; null when none waits.
    /// </param>
    /// <param name="provenAt">
    /// When the reader last was at or past the head it had sampled: all that was committed by then is captured.
    /// </param>
    /// <param name="passedHead">Whether the reader is past the last sampled head.</param>
    /// <param name="captureCut">Whether the log cannot be read just now.</param>
    public static LagReading Read(
        DateTimeOffset now,
        DateTimeOffset? oldestUnapplied,
        DateTimeOffset? provenAt,
        bool passedHead,
        bool captureCut
    )
    {
        if (oldestUnapplied is { } oldest)
        {
            return new LagReading(NotNegative(now - oldest), Current: false, captureCut);
        }

        if (passedHead && !captureCut)
        {
            return new LagReading(TimeSpan.Zero, Current: true, AtLeast: false);
        }

        var sinceProof = provenAt is { } proof ? NotNegative(now - proof) : TimeSpan.Zero;
        return new LagReading(sinceProof, Current: false, AtLeast: captureCut || provenAt is null);
    }

    /// <summary>
    /// The age of a point of the wake: that of the first transaction, in log order, which has not passed it; zero when all have.
    /// </summary>
    public static TimeSpan Age(DateTimeOffset now, DateTimeOffset? firstNotPassed) =>
        firstNotPassed is { } first ? NotNegative(now - first) : TimeSpan.Zero;

    private static TimeSpan NotNegative(TimeSpan span) => span < TimeSpan.Zero ? TimeSpan.Zero : span;
}
