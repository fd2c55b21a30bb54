namespace Vestige.Engine.Spooling;

/// <summary>
/// Tells of a key that it is not among those of a record, or may be (B. H. Bloom, Space/time trade-offs in hash coding with allowable
/// errors, Communications of the ACM 13, 1970). With 12 bits a key and 8 probes it is wrong about 3 times in 1,000. The probes are
/// made from the halves of one hash (A. Kirsch, M. Mitzenmacher, Less hashing, same performance, ESA 2006).
/// </summary>
internal static class KeyFilter
{
    private const int BitsPerKey = 12;
    private const int Probes = 8;

    /// <summary>The filter of some keys, by their hashes.</summary>
    public static byte[] Of(IReadOnlyCollection<ulong> hashes)
    {
        var filter = new byte[Math.Max(8, ((hashes.Count * BitsPerKey) + 7) / 8)];
        foreach (var hash in hashes)
        {
            Add(filter, hash);
        }

        return filter;
    }

    /// <summary>Adds a key to a filter.</summary>
    public static void Add(Span<byte> filter, ulong hash)
    {
        for (var probe = 0; probe < Probes; probe++)
        {
            var bit = BitOf(hash, probe, filter.Length);
            filter[(int)(bit >> 3)] |= (byte)(1 << (int)(bit & 7));
        }
    }

    /// <summary>False when the key is certainly not among them.</summary>
    public static bool MayHold(ReadOnlySpan<byte> filter, ulong hash)
    {
        for (var probe = 0; probe < Probes; probe++)
        {
            var bit = BitOf(hash, probe, filter.Length);
            if ((filter[(int)(bit >> 3)] & (1 << (int)(bit & 7))) == 0)
            {
                return false;
            }
        }

        return true;
    }

    private static uint BitOf(ulong hash, int probe, int bytes)
    {
        var (low, high) = ((uint)hash, (uint)(hash >> 32) | 1);
        return (uint)(((ulong)(low + ((uint)probe * high)) * (ulong)(bytes * 8L)) >> 32);
    }
}
