using System.IO.Compression;
using Vestige.Core.Lag;

namespace Vestige.Core.Measures;

/// <summary>
/// Slots as bytes and back: numbers of variable length, lags to a tenth of a millisecond, changes to a tenth, one figure of all slots
/// after the other, so that like stands by like, the whole deflated. A thousand crossings write three such blocks a minute each, so
/// size is what counts here.
/// </summary>
public static class MeasurePacking
{
    private const byte Version = 2;
    private const byte BySlot = 1;
    private const int NearlyWhole = 55;
    private const double LagUnit = 1e-4;
    private const double ChangeUnit = 0.1;

    public static byte[] Write(IReadOnlyList<MeasureSlot> slots)
    {
        ArgumentNullException.ThrowIfNull(slots);
        using var packed = new MemoryStream();
        packed.WriteByte(Version);
        // A block that grows is written again each minute; the last time is worth the effort.
        var level = slots.Count < NearlyWhole ? CompressionLevel.Fastest : CompressionLevel.Optimal;
        using (var deflated = new BinaryWriter(new DeflateStream(packed, level)))
        {
            deflated.Write7BitEncodedInt(slots.Count);
            Write(deflated, slots);
        }

        return packed.ToArray();
    }

    /// <summary>
    /// Throws <see cref="InvalidDataException"/> when the bytes are none that <see cref="Write(IReadOnlyList{MeasureSlot})"/> made.
    /// </summary>
    public static IReadOnlyList<MeasureSlot> Read(byte[] bytes)
    {
        ArgumentNullException.ThrowIfNull(bytes);
        if (bytes.Length == 0 || bytes[0] is not (Version or BySlot))
        {
            throw new InvalidDataException("The measures were written by another version.");
        }

        try
        {
            using var inflated = new BinaryReader(
                new DeflateStream(new MemoryStream(bytes, 1, bytes.Length - 1), CompressionMode.Decompress)
            );
            var slots = inflated.Read7BitEncodedInt();
            return bytes[0] == Version ? ReadAll(inflated, slots) : [.. Enumerable.Range(0, slots).Select(_ => Read(inflated))];
        }
        catch (Exception exception) when (exception is EndOfStreamException or FormatException or OverflowException)
        {
            throw new InvalidDataException("The measures are torn.", exception);
        }
    }

    private static void Write(BinaryWriter into, IReadOnlyList<MeasureSlot> slots)
    {
        long before = 0;
        foreach (var slot in slots)
        {
            var start = slot.Start.ToUnixTimeSeconds();
            into.Write7BitEncodedInt64(start - before);
            before = start;
        }

        void Each(Func<MeasureSlot, long> figure)
        {
            foreach (var slot in slots)
            {
                into.Write7BitEncodedInt64(figure(slot));
            }
        }

        Each(slot => slot.Samples);
        Each(slot => Units(slot.Behind));
        Each(slot => Units(slot.NotCaptured));
        Each(slot => Units(slot.NotSpooled));
        Each(slot => Units(slot.NotApplied));
        Each(slot => (long)Math.Round(slot.Arrived / ChangeUnit));
        Each(slot => (long)Math.Round(slot.Applied / ChangeUnit));
        Each(slot => slot.Delays.Buckets.Count);
        foreach (var slot in slots)
        {
            var bucket = 0;
            foreach (var (next, _) in slot.Delays.Buckets)
            {
                into.Write7BitEncodedInt(next - bucket);
                bucket = next;
            }
        }

        foreach (var (_, times) in slots.SelectMany(slot => slot.Delays.Buckets))
        {
            into.Write7BitEncodedInt64(times);
        }
    }

    private static long Units(TimeSpan lag) => (long)Math.Round(Math.Max(0, lag.TotalSeconds) / LagUnit);

    private static MeasureSlot[] ReadAll(BinaryReader from, int count)
    {
        var starts = new long[count];
        for (var i = 0; i < count; i++)
        {
            starts[i] = from.Read7BitEncodedInt64() + (i == 0 ? 0 : starts[i - 1]);
        }

        long[] Each() => [.. Enumerable.Range(0, count).Select(_ => from.Read7BitEncodedInt64())];
        var (samples, behind, captured, spooled, applied, arrived, done, sizes) = (
            Each(),
            Each(),
            Each(),
            Each(),
            Each(),
            Each(),
            Each(),
            Each()
        );
        var buckets = sizes.Select(size => new (int Bucket, long Times)[size]).ToArray();
        foreach (var mine in buckets)
        {
            var bucket = 0;
            for (var i = 0; i < mine.Length; i++)
            {
                mine[i].Bucket = bucket += from.Read7BitEncodedInt();
            }
        }

        foreach (var mine in buckets)
        {
            for (var i = 0; i < mine.Length; i++)
            {
                mine[i].Times = from.Read7BitEncodedInt64();
            }
        }

        TimeSpan Lag(long units) => TimeSpan.FromSeconds(units * LagUnit);
        return
        [
            .. Enumerable
                .Range(0, count)
                .Select(i => new MeasureSlot(
                    DateTimeOffset.FromUnixTimeSeconds(starts[i]),
                    (int)samples[i],
                    Lag(behind[i]),
                    Lag(captured[i]),
                    Lag(spooled[i]),
                    Lag(applied[i]),
                    arrived[i] * ChangeUnit,
                    done[i] * ChangeUnit,
                    DelayHistogram.Of(buckets[i])
                )),
        ];
    }

    /// <summary>A slot in the form of the version before, one slot after the other.</summary>
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
