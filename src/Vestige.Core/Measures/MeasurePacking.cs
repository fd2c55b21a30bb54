using System.IO.Compression;
using Vestige.Core.Lag;

namespace Vestige.Core.Measures;

/// <summary>
/// Slots as bytes and back: numbers of variable length, lags to a tenth of a millisecond, changes to a tenth, the whole
/// deflated. A thousand crossings write two such blocks a minute each, so size is what counts here.
/// </summary>
public static class MeasurePacking
{
    private const byte Version = 1;
    private const double LagUnit = 1e-4;
    private const double ChangeUnit = 0.1;

    public static byte[] Write(IReadOnlyList<MeasureSlot> slots)
    {
        ArgumentNullException.ThrowIfNull(slots);
        using var packed = new MemoryStream();
        packed.WriteByte(Version);
        using (var deflated = new BinaryWriter(new DeflateStream(packed, CompressionLevel.Fastest)))
        {
            deflated.Write7BitEncodedInt(slots.Count);
            foreach (var slot in slots)
            {
                Write(deflated, slot);
            }
        }

        return packed.ToArray();
    }

    /// <summary>Throws <see cref="InvalidDataException"/> when the bytes are none that <see cref="Write(IReadOnlyList{MeasureSlot})"/> made.</summary>
    public static IReadOnlyList<MeasureSlot> Read(byte[] bytes)
    {
        ArgumentNullException.ThrowIfNull(bytes);
        if (bytes.Length == 0 || bytes[0] != Version)
        {
            throw new InvalidDataException("The measures are in a form of another version.");
        }

        try
        {
            using var inflated = new BinaryReader(new DeflateStream(new MemoryStream(bytes, 1, bytes.Length - 1), CompressionMode.Decompress));
            var slots = new MeasureSlot[inflated.Read7BitEncodedInt()];
            for (var i = 0; i < slots.Length; i++)
            {
                slots[i] = Read(inflated);
            }

            return slots;
        }
        catch (Exception exception) when (exception is EndOfStreamException or FormatException or OverflowException)
        {
            throw new InvalidDataException("The measures are torn.", exception);
        }
    }

    private static void Write(BinaryWriter into, MeasureSlot slot)
    {
        into.Write7BitEncodedInt64(slot.Start.ToUnixTimeSeconds());
        into.Write7BitEncodedInt(slot.Samples);
        foreach (var lag in new[] { slot.Behind, slot.NotCaptured, slot.NotSpooled, slot.NotApplied })
        {
            into.Write7BitEncodedInt64((long)Math.Round(Math.Max(0, lag.TotalSeconds) / LagUnit));
        }

        into.Write7BitEncodedInt64((long)Math.Round(slot.Arrived / ChangeUnit));
        into.Write7BitEncodedInt64((long)Math.Round(slot.Applied / ChangeUnit));
        var buckets = slot.Delays.Buckets;
        into.Write7BitEncodedInt(buckets.Count);
        var before = 0;
        foreach (var (bucket, times) in buckets)
        {
            into.Write7BitEncodedInt(bucket - before);
            into.Write7BitEncodedInt64(times);
            before = bucket;
        }
    }

    private static MeasureSlot Read(BinaryReader from)
    {
        TimeSpan Lag() => TimeSpan.FromSeconds(from.Read7BitEncodedInt64() * LagUnit);
        var (start, samples) = (DateTimeOffset.FromUnixTimeSeconds(from.Read7BitEncodedInt64()), from.Read7BitEncodedInt());
        var (behind, captured, spooled, applied) = (Lag(), Lag(), Lag(), Lag());
        var (arrived, done) = (from.Read7BitEncodedInt64() * ChangeUnit, from.Read7BitEncodedInt64() * ChangeUnit);
        var buckets = new List<(int Bucket, long Times)>();
        var bucket = 0;
        for (var i = from.Read7BitEncodedInt(); i > 0; i--)
        {
            bucket += from.Read7BitEncodedInt();
            buckets.Add((bucket, from.Read7BitEncodedInt64()));
        }

        return new MeasureSlot(start, samples, behind, captured, spooled, applied, arrived, done, DelayHistogram.Of(buckets));
    }
}
