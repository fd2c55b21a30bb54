using Vestige.Core.Changes;

namespace Vestige.Core.Reconciling;

/// <summary>A table cut into parts that are compared one by one: ranges of keys, or keys whose hashes begin alike.</summary>
public sealed class Segments
{
    private readonly Int128[][] numbers;

    private Segments(IReadOnlyList<Row> bounds, int bits)
    {
        numbers = [.. bounds.Select(bound => Enumerable.Range(0, bound.Count).Select(i => IntegerKeys.Number(bound, i)).ToArray())];
        Bounds = bounds;
        Bits = bits;
        Count = bits > 0 ? 1 << bits : bounds.Count + 1;
    }

    public int Count { get; }

    /// <summary>The first key of each range but the first, in order; empty where cut by hash.</summary>
    public IReadOnlyList<Row> Bounds { get; }

    /// <summary>So many bits of a key's hash name its segment; 0 where cut by ranges.</summary>
    public int Bits { get; }

    public bool AreByHash => Bits > 0;

    /// <summary>Ranges of keys of whole numbers.</summary>
    public static Segments ByRange(IReadOnlyList<Row> bounds) => new(bounds, 0);

    /// <summary>By the first bits of the key's hash, 1 to 16.</summary>
    public static Segments ByHash(int bits)
    {
        ArgumentOutOfRangeException.ThrowIfLessThan(bits, 1);
        ArgumentOutOfRangeException.ThrowIfGreaterThan(bits, 16);
        return new Segments([], bits);
    }

    /// <summary>Which segment a key is in.</summary>
    /// <param name="key">The key columns only.</param>
    /// <param name="hash">The hash of the key.</param>
    public int Of(Row key, UInt128 hash)
    {
        return AreByHash ? (int)(hash >> (128 - Bits)) : Of(key, key.Ordinals);
    }

    /// <summary>The range that a row's key is in, without taking the key out of the row. Only where cut by ranges.</summary>
    /// <param name="row">The row.</param>
    /// <param name="key">The ordinals of its key columns, in key order.</param>
    public int Of(Row row, IReadOnlyList<int> key)
    {
        ArgumentNullException.ThrowIfNull(key);
        Span<Int128> wanted = stackalloc Int128[key.Count];
        for (var i = 0; i < wanted.Length; i++)
        {
            wanted[i] = IntegerKeys.Number(row, key[i]);
        }

        var (low, high) = (0, numbers.Length);
        while (low < high)
        {
            var middle = (low + high) / 2;
            if (numbers[middle].AsSpan().SequenceCompareTo(wanted) <= 0)
            {
                low = middle + 1;
            }
            else
            {
                high = middle;
            }
        }

        return low;
    }

    /// <summary>The keys of a range within a larger one.</summary>
    public KeySpan SpanOf(int segment, KeySpan within) =>
        new(segment == 0 ? within.From : Bounds[segment - 1], segment == Bounds.Count ? within.Before : Bounds[segment]);

    /// <summary>
    /// The spans of keys that hold some segments: one for each run of neighbours where cut by ranges, the whole where by hash.
    /// </summary>
    /// <param name="wanted">The segments, in ascending order.</param>
    /// <param name="within">The keys that are cut.</param>
    public IEnumerable<KeySpan> SpansOf(IReadOnlyList<int> wanted, KeySpan within)
    {
        ArgumentNullException.ThrowIfNull(wanted);
        if (AreByHash)
        {
            yield return within;
            yield break;
        }

        for (var i = 0; i < wanted.Count;)
        {
            var last = i;
            while (last + 1 < wanted.Count && wanted[last + 1] == wanted[last] + 1)
            {
                last++;
            }

            yield return new KeySpan(SpanOf(wanted[i], within).From, SpanOf(wanted[last], within).Before);
            i = last + 1;
        }
    }
}
