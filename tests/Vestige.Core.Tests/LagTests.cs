using CsCheck;
using Vestige.Core.Lag;
using Xunit;

namespace Vestige.Core.Tests;

public class LagTests
{
    private static readonly DateTimeOffset Now = new(2026, 5, 4, 12, 0, 0, TimeSpan.Zero);

    [Fact]
    public void An_idle_source_is_not_behind_however_long_ago_its_last_change_was()
    {
        var reading = LagRule.Read(Now, oldestUnapplied: null, provenAt: Now.AddSeconds(-1), passedHead: true, captureCut: false);
        Assert.Equal(new LagReading(TimeSpan.Zero, Current: true, AtLeast: false), reading);
    }

    [Fact]
    public void Behind_is_the_age_of_the_oldest_transaction_not_applied() =>
        Assert.Equal(TimeSpan.FromSeconds(48), LagRule.Read(Now, Now.AddSeconds(-48), Now, passedHead: true, captureCut: false).Behind);

    [Fact]
    public void With_capture_cut_lag_is_at_least_the_time_since_the_last_proof()
    {
        var reading = LagRule.Read(Now, null, Now.AddMinutes(-3), passedHead: true, captureCut: true);
        Assert.Equal(new LagReading(TimeSpan.FromMinutes(3), Current: false, AtLeast: true), reading);
    }

    [Fact]
    public void Without_any_proof_it_is_at_least_that()
    {
        foreach (var isCut in new[] { false, true })
        {
            var reading = LagRule.Read(new DateTimeOffset(2026, 3, 1, 8, 0, 0, TimeSpan.Zero), null, null, passedHead: false, isCut);
            Assert.True(reading is { Current: false, AtLeast: true });
        }
    }

    [Fact]
    public void A_head_not_passed_yet_is_not_current()
    {
        var reading = LagRule.Read(Now, null, Now.AddSeconds(-2), passedHead: false, captureCut: false);
        Assert.False(reading.Current);
        Assert.Equal(TimeSpan.FromSeconds(2), reading.Behind);
    }

    [Fact]
    public void Lag_is_never_negative_though_clocks_disagree() =>
        Gen.Long[-1_000_000, 1_000_000]
            .Sample(ms => Assert.True(LagRule.Read(Now, Now.AddMilliseconds(ms), null, false, false).Behind >= TimeSpan.Zero));

    [Fact]
    public void The_hops_add_up_to_the_whole_and_the_largest_is_named()
    {
        var delays = HopDelays.Between(
            Now,
            Now.AddMilliseconds(10),
            Now.AddMilliseconds(40),
            TimeSpan.FromMilliseconds(5),
            Now.AddMilliseconds(60)
        );
        Assert.Equal(TimeSpan.FromMilliseconds(60), delays.Total);
        Assert.Equal("spool", delays.Largest);
        Assert.Equal(100, delays.Shares.Sum(), 6);
        Assert.Equal(TimeSpan.FromMilliseconds(15), delays.Apply);
    }

    [Fact]
    public void Quantiles_are_within_the_stated_error_of_the_exact_nearest_rank()
    {
        Gen.Select(Gen.Double[-6, 5].Array[1, 400], Gen.Double[0, 1])
            .Sample(
                (logs, q) =>
                {
                    var exact = logs.Select(log => TimeSpan.FromSeconds(Math.Pow(10, log))).Order().ToArray();
                    var histogram = new DelayHistogram();
                    foreach (var delay in exact)
                    {
                        histogram.Record(delay);
                    }

                    var expected = exact[Math.Max(0, (int)Math.Ceiling(q * exact.Length) - 1)].TotalSeconds;
                    var found = histogram.Quantile(q)!.Value.TotalSeconds;

                    // A tick is 100 ns, so a result near a microsecond is rounded by up to a twentieth.
                    Assert.True(
                        Math.Abs(found - expected) <= (expected * DelayHistogram.RelativeError) + 2e-7,
                        $"q {q}: {found} instead of {expected}"
                    );
                }
            );
    }

    [Fact]
    public void Merging_histograms_equals_recording_into_one()
    {
        Gen.Select(Gen.Double[-5, 4].Array[0, 100], Gen.Double[-5, 4].Array[0, 100])
            .Sample(
                (left, right) =>
                {
                    DelayHistogram a = new(),
                        b = new(),
                        both = new();
                    foreach (var log in left)
                    {
                        a.Record(TimeSpan.FromSeconds(Math.Pow(10, log)));
                        both.Record(TimeSpan.FromSeconds(Math.Pow(10, log)));
                    }

                    foreach (var log in right)
                    {
                        b.Record(TimeSpan.FromSeconds(Math.Pow(10, log)));
                        both.Record(TimeSpan.FromSeconds(Math.Pow(10, log)));
                    }

                    a.Merge(b);
                    foreach (var q in new[] { 0, 0.5, 0.95, 0.99, 1 })
                    {
                        Assert.Equal(both.Quantile(q), a.Quantile(q));
                    }
                }
            );
    }

    [Fact]
    public void The_axis_of_the_wake_gives_each_decade_the_same_width()
    {
        var second = WakeAxis.Place(TimeSpan.FromSeconds(1));
        var ten = WakeAxis.Place(TimeSpan.FromSeconds(10));
        var hundred = WakeAxis.Place(TimeSpan.FromSeconds(100));
        Assert.Equal(second - ten, ten - hundred, 9);
        Assert.Equal(1, WakeAxis.Place(TimeSpan.Zero));
        Assert.Equal(0, WakeAxis.Place(TimeSpan.FromDays(9)));
    }
}
