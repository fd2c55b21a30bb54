using System.Globalization;
using CsCheck;
using Vestige.Core.Lag;
using Vestige.Core.Measures;
using Xunit;

namespace Vestige.Core.Tests;

public class MeasureTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    private static readonly Gen<MeasureSlot> Slot = Gen.Select(
        Gen.Int[0, 3599],
        Gen.Double[0, 5000],
        Gen.Double[0, 1],
        Gen.Int[0, 100000],
        Gen.Int[0, 100000],
        Gen.Double[0, 400].Array[0, 30],
        (second, behind, part, arrived, applied, delays) =>
            new MeasureSlot(
                Start.AddSeconds(second),
                1,
                Seconds(behind),
                Seconds(behind * part),
                Seconds(behind * (1 - part) / 2),
                Seconds(behind * (1 - part) / 2),
                arrived,
                applied,
                Histogram(delays)
            )
    );

    /// <summary>Begun at 21:22, restarted at 21:50: no window is shown from 21:00, where the hour's slot begins.</summary>
    [Theory]
    [InlineData("21:22", null, null, "21:22")]
    [InlineData("21:50", "21:22", "21:00", "21:22")]
    [InlineData("21:50", null, "21:00", "21:50")]
    [InlineData("21:50", "21:22", "19:00", "19:00")]
    [InlineData(null, null, "19:00", "19:00")]
    [InlineData(null, null, null, null)]
    public void Measuring_began_with_the_finest_measure_that_is_known(string? seen, string? minute, string? hour, string? expected)
    {
        DateTimeOffset? At(string? time) => time is null ? null : DateTimeOffset.Parse($"2026-03-01T{time}Z", CultureInfo.InvariantCulture);
        var oldest = new[] { (MeasureStep.Minute, At(minute)), (MeasureStep.Hour, At(hour)) }
            .Where(slot => slot.Item2 is not null)
            .Select(slot => (slot.Item1, slot.Item2!.Value));
        Assert.Equal(At(expected), FirstMeasure.Of(At(seen), oldest));
    }

    [Fact]
    public void Slots_survive_being_packed_to_a_tenth_of_a_millisecond_and_their_delays_exactly() =>
        Slot.Array[0, 60]
            .Sample(slots =>
            {
                var read = MeasurePacking.Read(MeasurePacking.Write(slots));
                Assert.Equal(slots.Length, read.Count);
                foreach (var (was, now) in slots.Zip(read))
                {
                    Assert.Equal((was.Start, was.Samples, was.Arrived, was.Applied), (now.Start, now.Samples, now.Arrived, now.Applied));
                    foreach (
                        var (one, other) in new[]
                        {
                            (was.Behind, now.Behind),
                            (was.NotCaptured, now.NotCaptured),
                            (was.NotSpooled, now.NotSpooled),
                            (was.NotApplied, now.NotApplied),
                        }
                    )
                    {
                        Assert.InRange((one - other).TotalSeconds, -0.6e-4, 0.6e-4);
                    }

                    Assert.Equal(was.Delays.Buckets, now.Delays.Buckets);
                }
            });

    /// <summary>
    /// Rolled up in any order and in any number of steps, percentiles are those of the raw delays by nearest rank, within the bound.
    /// </summary>
    [Fact]
    public void Percentiles_stay_true_through_rolling_up() =>
        Gen.Double[1e-5, 1000]
            .Array[1, 200]
            .Sample(delays =>
            {
                var slots = delays.Select((delay, i) => Empty(i) with { Delays = Histogram([delay]) }).ToList();
                var minutes = slots
                    .Chunk(7)
                    .Select(chunk => MeasureSlot.Sum(Start, chunk)!)
                    .Select(slot => MeasurePacking.Read(MeasurePacking.Write([slot]))[0])
                    .ToList();
                var all = MeasureSlot.Sum(Start, minutes)!;
                Assert.Equal(delays.Length, all.Delays.Count);
                Assert.Equal(delays.Length, all.Samples);
                var sorted = delays.Order().ToList();
                foreach (var q in new[] { 0.5, 0.95, 0.99 })
                {
                    var exact = sorted[Math.Max(1, (int)Math.Ceiling(q * sorted.Count)) - 1];
                    Assert.InRange(
                        all.Delays.Quantile(q)!.Value.TotalSeconds,
                        exact * (1 - DelayHistogram.RelativeError) - 1e-6,
                        exact * (1 + DelayHistogram.RelativeError) + 1e-6
                    );
                }
            });

    [Fact]
    public void A_sum_has_the_worst_lag_with_its_parts_and_all_changes()
    {
        var sum = MeasureSlot.Sum(
            Start,
            [
                Empty(0) with
                {
                    Behind = Seconds(1),
                    NotCaptured = Seconds(1),
                    Arrived = 5,
                },
                Empty(1) with
                {
                    Behind = Seconds(3),
                    NotApplied = Seconds(3),
                    Arrived = 7,
                    Applied = 2,
                },
            ]
        )!;
        Assert.Equal(
            (Seconds(3), TimeSpan.Zero, Seconds(3), 12, 2, 2),
            (sum.Behind, sum.NotCaptured, sum.NotApplied, sum.Arrived, sum.Applied, sum.Samples)
        );
        Assert.Null(MeasureSlot.Sum(Start, []));
    }

    [Theory]
    [InlineData(900, 1)]
    [InlineData(3600, 1)]
    [InlineData(3601, 60)]
    [InlineData(8 * 86400, 60)]
    [InlineData(14 * 86400, 3600)]
    [InlineData(90 * 86400, 3600)]
    [InlineData(3000 * 86400L, 3600)]
    public void The_finest_step_that_reaches_back_so_far_is_taken(long window, int slot) =>
        Assert.Equal(slot, MeasureStep.For(TimeSpan.FromSeconds(window)).Slot.TotalSeconds);

    [Fact]
    public void What_is_torn_or_of_another_version_is_told()
    {
        var bytes = MeasurePacking.Write([Empty(0) with { Delays = Histogram([1, 2, 3]) }]);
        Assert.Throws<InvalidDataException>(() => MeasurePacking.Read([]));
        Assert.Throws<InvalidDataException>(() => MeasurePacking.Read([9, .. bytes[1..]]));
        Assert.Throws<InvalidDataException>(() => MeasurePacking.Read(bytes[..5]));
    }

    private static MeasureSlot Empty(int second) =>
        new(Start.AddSeconds(second), 1, default, default, default, default, 0, 0, new DelayHistogram());

    private static DelayHistogram Histogram(double[] delays)
    {
        var histogram = new DelayHistogram();
        foreach (var delay in delays)
        {
            histogram.Record(Seconds(delay));
        }

        return histogram;
    }

    private static TimeSpan Seconds(double seconds) => TimeSpan.FromSeconds(seconds);

    /// <summary>Blocks of the form before stay readable: one slot after the other.</summary>
    [Fact]
    public void Measures_of_the_form_before_are_read()
    {
        using var packed = new MemoryStream();
        packed.WriteByte(1);
        using (var into = new BinaryWriter(new System.IO.Compression.DeflateStream(packed, System.IO.Compression.CompressionLevel.Fastest)))
        {
            into.Write7BitEncodedInt(1);
            into.Write7BitEncodedInt64(Start.ToUnixTimeSeconds());
            foreach (var number in new[] { 3, 40_000, 10_000, 5_000, 2_500, 70, 60, 2, 5, 1, 2, 4 })
            {
                into.Write7BitEncodedInt64(number);
            }
        }

        var slot = Assert.Single(MeasurePacking.Read(packed.ToArray()));
        Assert.Equal((Start, 3, 4.0, 7.0), (slot.Start, slot.Samples, slot.Behind.TotalSeconds, slot.Arrived));
        Assert.Equal([(5, 1L), (7, 4L)], slot.Delays.Buckets.Select(pair => (pair.Item1, pair.Item2)));
    }
}
