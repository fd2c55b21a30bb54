using Vestige.Core.Positions;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Hosting;

/// <summary>Positions and times as bytes: for each its distance from the one before, positions as they are counted, times in ticks of 100 ns.</summary>
public static class AppliedPacking
{
    public static byte[] Write(IReadOnlyList<AppliedTime> times)
    {
        ArgumentNullException.ThrowIfNull(times);
        using var bytes = new MemoryStream();
        using var writer = new BinaryWriter(bytes);
        var before = default(AppliedTime);
        foreach (var time in times)
        {
            writer.Write7BitEncodedInt64(unchecked((long)(time.Upto.Place - before.Upto.Place)));
            writer.Write7BitEncodedInt64(time.At.UtcTicks - before.At.UtcTicks);
            before = time;
        }

        writer.Flush();
        return bytes.ToArray();
    }

    /// <summary>What was written. Bytes that were not written so are an <see cref="IOException"/> or <see cref="FormatException"/>.</summary>
    public static IReadOnlyList<AppliedTime> Read(byte[] packed)
    {
        ArgumentNullException.ThrowIfNull(packed);
        using var reader = new BinaryReader(new MemoryStream(packed));
        var times = new List<AppliedTime>();
        var before = default(AppliedTime);
        while (reader.BaseStream.Position < packed.Length)
        {
            var upto = new LogPosition(unchecked(before.Upto.Place + (ulong)reader.Read7BitEncodedInt64()));
            before = new AppliedTime(upto, new DateTimeOffset(before.At.UtcTicks + reader.Read7BitEncodedInt64(), TimeSpan.Zero));
            times.Add(before);
        }

        return times;
    }
}
