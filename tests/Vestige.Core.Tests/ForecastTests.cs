using CsCheck;
using Vestige.Core.Forecasting;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>B/(μ−λ), the drain time of a fluid queue (common practice, no source), against a step by step simulation of it.</summary>
public class ForecastTests
{
    [Fact]
    public void A_backlog_clears_in_the_time_that_stepping_through_it_takes()
    {
        Gen.Select(Gen.Long[1, 1_000_000], Gen.Double[0, 5000], Gen.Double[1, 5000])
            .Sample(
                (backlog, arriving, surplus) =>
                {
                    var forecast = Forecast.WhenClear(backlog, [arriving], [arriving + surplus]);
                    var left = (double)backlog;
                    var step = backlog / surplus / 1000;
                    var time = 0.0;
                    while (left > 1e-6 * backlog)
                    {
                        left += (arriving * step) - ((arriving + surplus) * step);
                        time += step;
                    }

                    Assert.Equal(Clearing.Clears, forecast.Outcome);
                    Assert.InRange(forecast.In!.Value.TotalSeconds, time * 0.99 - 0.01, time * 1.01 + 0.01);
                }
            );
    }

    [Fact]
    public void It_never_clears_when_as_much_arrives_as_is_applied() =>
        Assert.Equal(Clearing.Never, Forecast.WhenClear(500, [100, 100], [100, 100]).Outcome);

    [Fact]
    public void Without_an_interval_under_backlog_capacity_is_not_measured() =>
        Assert.Equal(Clearing.NotMeasured, Forecast.WhenClear(500, [100], []).Outcome);

    /// <summary>
    /// Queues whose end is known beforehand: with steady rates every forecast is right, and when the rate halves amid, the early ones are
    /// off.
    /// </summary>
    [Fact]
    public void Past_forecasts_are_held_against_when_the_backlog_did_clear()
    {
        var (steady, halved) = (Played(_ => 300), Played(second => second < 60 ? 300 : 200));
        Assert.Equal(1, steady.WithinRange);
        Assert.InRange(steady.MedianError, 0, 0.02);
        Assert.True(steady.Count >= 10);
        Assert.Equal(steady.Count, steady.Near);
        var slowed = Played(second => second < 60 ? 300 : 150);
        Assert.InRange(slowed.Near, 1, slowed.Count - 1);
        Assert.InRange(halved.MedianError, 0, 0.6);
        Assert.True(halved.WithinRange < 1);
    }

    [Fact]
    public void A_forecast_that_was_interrupted_is_held_against_nothing()
    {
        var past = new PastForecasts();
        past.Note(DateTimeOffset.UnixEpoch, Forecast.WhenClear(1000, [10], [20]).Time);
        past.Interrupted();
        past.Happened(DateTimeOffset.UnixEpoch.AddHours(1));
        Assert.Null(past.Quality);
    }

    private static ForecastQuality Played(Func<int, double> applied)
    {
        var (past, backlog, rates) = (new PastForecasts(), 20_000.0, new List<double>());
        for (var second = 0; ; second++)
        {
            var now = DateTimeOffset.UnixEpoch.AddSeconds(second);
            rates.Add(applied(second));
            past.Note(now, Forecast.WhenClear((long)backlog, [100], rates.TakeLast(60).ToList()).Time);
            if (backlog <= 0)
            {
                past.Happened(now);
                return past.Quality!;
            }

            backlog += 100 - applied(second);
        }
    }

    /// <summary>One change every four seconds is a quarter of a change a second; the median of its seconds is none.</summary>
    [Fact]
    public void A_rate_that_is_mostly_zero_is_seen_over_longer_stretches_and_a_burst_is_none()
    {
        var sparse = Enumerable.Range(0, 60).Select(second => second % 4 == 0 ? 1.0 : 0).ToList();
        Assert.InRange(Forecast.WhenClear(0, sparse, []).Arriving, 0.2, 0.3);
        Assert.Equal(RateRange.Zero, RateRange.Of([0, 0, 0]));
        Assert.Equal(0, RateRange.Of([.. Enumerable.Range(0, 60).Select(second => second == 30 ? 1500.0 : 0)]).Median);
        Assert.Equal(0, RateRange.Of([.. Enumerable.Range(0, 12).Select(second => second == 4 ? 150.0 : 0)]).Median);
    }

    [Fact]
    public void Without_backlog_it_is_current() => Assert.Equal(Clearing.Current, Forecast.WhenClear(0, [9], []).Outcome);

    [Fact]
    public void The_range_comes_from_the_quartiles()
    {
        // 10, 20, 30, 40 arriving and 110, 120, 130, 140 applied: medians 20 and 120, quartiles 10, 30 and 110, 130 by nearest rank.
        var forecast = Forecast.WhenClear(1200, [40, 10, 30, 20], [140, 110, 130, 120]);
        Assert.Equal(12, forecast.In!.Value.TotalSeconds, 6);
        Assert.Equal(10, forecast.Soonest!.Value.TotalSeconds, 6);
        Assert.Equal(15, forecast.Latest!.Value.TotalSeconds, 6);
    }

    [Theory]
    [InlineData(0, 1000, 10, 100)]
    [InlineData(900, 1000, 10, 10)]
    [InlineData(1000, 1000, 10, 0)]
    public void A_store_is_full_when_the_room_is_used_up(long held, long limit, double rate, double seconds) =>
        Assert.Equal(seconds, Forecast.WhenFull(held, limit, rate)!.Value.TotalSeconds, 6);

    [Fact]
    public void A_store_that_does_not_grow_is_never_full() => Assert.Null(Forecast.WhenFull(1, 1000, 0));
}
