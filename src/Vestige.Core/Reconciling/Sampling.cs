namespace Vestige.Core.Reconciling;

/// <summary>What a sample says of the whole, and what it does not.</summary>
public static class Sampling
{
    /// <summary>
    /// The probability that a sample of n rows, drawn without putting back, misses all d bad ones among N:
    /// C(N−d, n)/C(N, n), the hypergeometric distribution at none.
    /// </summary>
    public static double ChanceOfMissing(long rows, long bad, long sample)
    {
        ArgumentOutOfRangeException.ThrowIfNegative(bad);
        ArgumentOutOfRangeException.ThrowIfNegative(sample);
        ArgumentOutOfRangeException.ThrowIfLessThan(rows, Math.Max(bad, sample));
        if (sample > rows - bad)
        {
            return 0;
        }

        // The same with sample and bad exchanged; the smaller number of factors is taken.
        var (factors, other) = bad < sample ? (bad, sample) : (sample, bad);
        var log = 0.0;
        for (long i = 0; i < factors; i++)
        {
            log += Math.Log(1 - ((double)other / (rows - i)));
        }

        return Math.Exp(log);
    }

    /// <summary>The smallest sample that finds at least one of d bad rows among N with that certainty, above 0 and below 1.</summary>
    public static long SizeFor(long rows, long bad, double certainty)
    {
        ArgumentOutOfRangeException.ThrowIfNegativeOrZero(bad);
        ArgumentOutOfRangeException.ThrowIfLessThanOrEqual(certainty, 0);
        ArgumentOutOfRangeException.ThrowIfGreaterThanOrEqual(certainty, 1);
        ArgumentOutOfRangeException.ThrowIfLessThan(rows, bad);
        var (low, high) = (0L, rows - bad + 1);
        while (low < high)
        {
            var middle = low + ((high - low) / 2);
            if (ChanceOfMissing(rows, bad, middle) <= 1 - certainty)
            {
                high = middle;
            }
            else
            {
                low = middle + 1;
            }
        }

        return low;
    }

    /// <summary>
    /// The largest number of bad rows that a sample without any still leaves possible with the given certainty: the largest d with
    /// a chance of being missed above 1 − certainty. For large N and 95 % about 3N/n, the rule of three (Hanley and Lippman-Hand,
    /// JAMA 249, 1983).
    /// </summary>
    public static long MostBad(long rows, long sample, double certainty)
    {
        ArgumentOutOfRangeException.ThrowIfLessThanOrEqual(certainty, 0);
        ArgumentOutOfRangeException.ThrowIfGreaterThanOrEqual(certainty, 1);
        var (low, high) = (0L, rows - sample);
        while (low < high)
        {
            var middle = low + ((high - low + 1) / 2);
            if (ChanceOfMissing(rows, middle, sample) > 1 - certainty)
            {
                low = middle;
            }
            else
            {
                high = middle - 1;
            }
        }

        return low;
    }
}
