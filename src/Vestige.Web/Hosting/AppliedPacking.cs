using Vestige.Core.Positions;
using Vestige.Engine.Measuring;

namespace Vestige.Web.Hosting;

/// <summary>
/// Positions and times as bytes: for each its distance from the one before, positions as they are counted, times in ticks of 100 ns.
/// Where a branch begins, an entry without any distance in time, which no other has, tells its number instead of an offset.
/// </summary>
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
            if (time.Upto.Branch != before.Upto.Branch)
            {
                writer.Write7BitEncodedInt64(time.Upto.Branch);
                writer.Write7BitEncodedInt64(0);
            }

            writer.Write7BitEncodedInt64(unchecked((long)(time.Upto.Offset - before.Upto.Offset)));
            writer.Write7BitEncodedInt64(time.At.UtcTicks - before.At.UtcTicks);
            before = time;
        }

        writer.Flush();
        return bytes.ToArray();
    }

    /// <summary>
    /// What was written. Bytes that were not written so are an <see cref="IOException"/> or <see cref="FormatException"/>.
    /// </summary>
    public static IReadOnlyList<AppliedTime> Read(byte[] packed)
    {
        ArgumentNullException.ThrowIfNull(packed);
        using var reader = new BinaryReader(new MemoryStream(packed));
        var times = new List<AppliedTime>();
        var before = default(AppliedTime);
        while (reader.BaseStream.Position < packed.Length)
        {
            var (distance, ticks) = (reader.Read7BitEncodedInt64(), reader.Read7BitEncodedInt64());
            if (ticks == 0)
            {
                before = before with { Upto = before.Upto.On(checked((int)distance)) };
                continue;
            }

            var upto = before.Upto.At(unchecked(before.Upto.Offset + (ulong)distance));
            before = new AppliedTime(upto, new DateTimeOffset(before.At.UtcTicks + ticks, TimeSpan.Zero));
            times.Add(before);
        }

        return times;
    }
}
