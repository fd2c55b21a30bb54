using CsCheck;
using Vestige.Core.Forecasting;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>
/// When the spool is full and the source's log is lost after it: two stores that fill one after the other, against stepping through
/// them (common practice, no source).
/// </summary>
public sealed class LogExhaustionTests
{
    private static readonly StoreLevel Log = new(100, 1100, Steady(10));

    /// <summary>
    /// What arrives is written to the spool; of that a part is applied and needed no more. A full spool leaves the log to the source.
    /// </summary>
    [Fact]
    public void Both_come_when_stepping_through_them_says()
    {
        Gen.Select(Gen.Double[1, 500], Gen.Double[0.05, 1], Gen.Double[1, 800], Gen.Int[0, 5000], Gen.Int[0, 5000])
            .Sample(
                (written, left, logged, needed, held) =>
                {
                    var forecast = Forecast.WhenExhausted(
                        new StoreLevel(needed, 10_000, Steady(written).Part(Steady(left))),
                        new StoreLevel(held, 20_000, Steady(logged)),
                        isRead: true
                    );
                    var (full, lost) = Played(needed, 10_000, written, 1 - left, held, 20_000, logged);
                    Assert.InRange(forecast.SpoolFull.In!.Value.TotalSeconds, full * 0.99 - 0.1, full * 1.01 + 0.1);
                    Assert.InRange(forecast.LogLost.In!.Value.TotalSeconds, lost * 0.99 - 0.2, lost * 1.01 + 0.2);
                }
            );
    }

    private static (double Full, double Lost) Played(
        double needed,
        double budget,
        double written,
        double applied,
        double held,
        double limit,
        double logged
    )
    {
        const double Step = 0.01;
        double time = 0;
        while (needed < budget)
        {
            needed += (written - (written * applied)) * Step;
            time += Step;
        }

        var full = time;
        while (held < limit)
        {
            held += logged * Step;
            time += Step;
        }

        return (full, time);
    }

    [Fact]
    public void The_range_holds_the_middle_and_is_of_the_quartiles()
    {
        Gen.Select(Gen.Double[0, 900].Array[1, 40], Gen.Double[0, 900].Array[1, 40], Gen.Double[0, 900].Array[1, 40])
            .Sample(
                (arriving, applied, bytes) =>
                {
                    var clears = Forecast.WhenClear(1000, arriving, applied);
                    var forecast = Forecast.WhenExhausted(
                        new StoreLevel(0, 10_000, RateRange.Of(bytes).Part(clears.Left)),
                        Log,
                        isRead: true
                    );
                    Assert.All([forecast.SpoolFull, forecast.LogLost], time =>
                    {
                        Assert.True(
                            (time.Soonest ?? TimeSpan.MaxValue) <= (time.In ?? TimeSpan.MaxValue)
                                && (time.In ?? TimeSpan.MaxValue) <= (time.Latest ?? TimeSpan.MaxValue),
                            $"{time}"
                        );
                    });

                    // What clears at the medians fills nothing at these.
                    Assert.False(clears.Outcome == Clearing.Clears && forecast.SpoolFull.In is not null, $"{clears}, {forecast}");
                }
            );
    }

    [Fact]
    public void A_log_that_is_not_read_is_kept_from_now_on_and_the_spool_stays_as_it_is()
    {
        var forecast = Forecast.WhenExhausted(new StoreLevel(500, 1000, Steady(50)), Log, isRead: false);
        Assert.Equal(ForecastTime.Never, forecast.SpoolFull);
        Assert.Equal(100, forecast.LogLost.In!.Value.TotalSeconds, 6);
        var full = Forecast.WhenExhausted(new StoreLevel(1000, 1000, RateRange.Zero), Log, isRead: false);
        Assert.Equal(TimeSpan.Zero, full.SpoolFull.In);
        Assert.Equal(100, full.LogLost.In!.Value.TotalSeconds, 6);
    }

    [Fact]
    public void A_log_that_never_drops_is_never_lost() =>
        Assert.Equal(
            ForecastTime.Never,
            Forecast.WhenExhausted(new StoreLevel(500, 1000, Steady(50)), Log with { Limit = null }, isRead: true).LogLost
        );

    [Fact]
    public void At_rest_all_that_arrives_is_left_and_nothing_clears()
    {
        var rests = Forecast.AtRest(500, [10, 20, 30], [400]);
        Assert.Equal(
            (Clearing.AtRest, null, null, null, RateRange.One),
            (rests.Outcome, rests.In, rests.Soonest, rests.Latest, rests.Left)
        );
        Assert.Equal((Clearing.Current, RateRange.One), (Forecast.AtRest(0, [10], []).Outcome, Forecast.AtRest(0, [10], []).Left));
    }

    [Fact]
    public void What_is_left_of_what_arrives_follows_from_both_rates()
    {
        // Quartiles by nearest rank: 10, 20, 30 arriving; 5, 10, 15 applied. Nothing is left of 10 where 15 can be applied, half of 20,
        // five sixths of 30.
        var left = Forecast.WhenClear(100, [10, 20, 30], [5, 10, 15]).Left;
        Assert.Equal((0, 0.5, 5.0 / 6), (left.Low, left.Median, Math.Round(left.High, 12)), new Close());
        Assert.Equal(new RateRange(0, 0, 1), Forecast.WhenClear(100, [10], []).Left);
        Assert.Equal(RateRange.Zero, Forecast.WhenClear(0, [10], [1]).Left);
    }

    private static RateRange Steady(double rate) => new(rate, rate, rate);

    private sealed class Close : IEqualityComparer<(double, double, double)>
    {
        public bool Equals((double, double, double) x, (double, double, double) y) =>
            Math.Abs(x.Item1 - y.Item1) + Math.Abs(x.Item2 - y.Item2) + Math.Abs(x.Item3 - y.Item3) < 1e-9;

        public int GetHashCode((double, double, double) obj) => 0;
    }
}
