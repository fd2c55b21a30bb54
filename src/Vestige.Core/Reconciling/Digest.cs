using System.Numerics;

namespace Vestige.Core.Reconciling;

/// <summary>
/// What is known of a set of rows: how many, and the sum of their hashes modulo 2^128, so that the order does not matter and rows
/// can be taken out again. Two sets that differ have the same with a chance of at most n/2^128.
/// </summary>
/// <param name="Count">How many rows.</param>
/// <param name="Sum">The sum; of each hash the lower half counts with its sign, as databases add whole numbers.</param>
public readonly record struct Digest(long Count, UInt128 Sum)
{
    /// <summary>Of no rows.</summary>
    public static Digest Empty => default;

    /// <summary>With a row more.</summary>
    public Digest With(UInt128 hash) => new(Count + 1, Sum + Signed(hash));

    /// <summary>With a row less.</summary>
    public Digest Without(UInt128 hash) => new(Count - 1, Sum - Signed(hash));

    public static Digest operator +(Digest left, Digest right) => new(left.Count + right.Count, left.Sum + right.Sum);

    public static Digest Add(Digest left, Digest right) => left + right;

    /// <summary>From the sums of both halves as a database gives them, each half read as a signed number of 64 bits.</summary>
    public static Digest Of(long count, BigInteger upper, BigInteger lower)
    {
        var modulus = BigInteger.One << 128;
        var sum = ((upper << 64) + lower) % modulus;
        return new Digest(count, (UInt128)(sum.Sign < 0 ? sum + modulus : sum));
    }

    private static UInt128 Signed(UInt128 hash) => ((hash >> 64) << 64) + (UInt128)(Int128)(long)(ulong)hash;
}
