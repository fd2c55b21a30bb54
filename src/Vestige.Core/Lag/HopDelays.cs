namespace Vestige.Core.Lag;

/// <summary>Where the time of a transaction went between its commit and its copy.</summary>
/// <param name="Capture">From the commit at the source until it was read from the log.</param>
/// <param name="Spool">Until it was durable in the spool.</param>
/// <param name="Treatment">Spent in treating and folding.</param>
/// <param name="Apply">Waiting for the target and writing to it.</param>
/// <param name="Rest">Waiting while the crossing rested on its own account; in none of the hops.</param>
public readonly record struct HopDelays(TimeSpan Capture, TimeSpan Spool, TimeSpan Treatment, TimeSpan Apply, TimeSpan Rest = default)
{
    /// <summary>The delay of all hops, without the rest.</summary>
    public TimeSpan Total => Capture + Spool + Treatment + Apply;

    /// <summary>The share of each hop in percent, in the order of the hops; all zero when there was no delay.</summary>
    public IReadOnlyList<double> Shares
    {
        get
        {
            var total = Total.TotalSeconds;
            return [.. new[] { Capture, Spool, Treatment, Apply }.Select(hop => total <= 0 ? 0 : 100 * hop.TotalSeconds / total)];
        }
    }

    /// <summary>The hop that took longest; the earlier one on a tie.</summary>
    public string Largest
    {
        get
        {
            var shares = Shares;
            return new[] { "capture", "spool", "treatment", "apply" }[Enumerable.Range(0, 4).MaxBy(i => (shares[i], -i))];
        }
    }

    /// <summary>Splits by the times at each hop; a time before the one preceding it (clock skew) counts as no delay.</summary>
    /// <param name="committed">At the source.</param>
    /// <param name="captured">When it was read from the log.</param>
    /// <param name="spooled">When it was durable.</param>
    /// <param name="treating">Spent in treating and folding.</param>
    /// <param name="applied">When the target had it.</param>
    /// <param name="rested">How long the crossing rested on its own account between the last two.</param>
    public static HopDelays Between(
        DateTimeOffset committed,
        DateTimeOffset captured,
        DateTimeOffset spooled,
        TimeSpan treating,
        DateTimeOffset applied,
        TimeSpan rested = default
    )
    {
        var capture = AtLeastZero(captured - committed);
        var spool = AtLeastZero(spooled - captured);
        var left = AtLeastZero(applied - spooled);
        var rest = rested < left ? rested : left;
        left -= rest;
        var treatment = treating < left ? treating : left;
        return new HopDelays(capture, spool, treatment, left - treatment, rest);
    }

    private static TimeSpan AtLeastZero(TimeSpan span) => span < TimeSpan.Zero ? TimeSpan.Zero : span;
}
