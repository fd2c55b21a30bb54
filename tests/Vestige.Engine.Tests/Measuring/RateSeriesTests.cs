using CsCheck;
using Vestige.Core.Forecasting;
using Vestige.Engine.Measuring;
using Xunit;

namespace Vestige.Engine.Tests.Measuring;

/// <summary>The range of a counter's rate.</summary>
public sealed class RateSeriesTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);
    private readonly RateSeries series = new();

    [Fact]
    public void A_steady_rate_is_known_after_a_second_and_stays()
    {
        Assert.Equal(RateRange.Zero, series.Range);
        for (var second = 0; second <= 900; second++)
        {
            series.Sample(Start.AddSeconds(second), second * 250L);
            Assert.Equal(second == 0 ? RateRange.Zero : new RateRange(250, 250, 250), series.Range);
        }
    }

    /// <summary>Most seconds see nothing, and yet it grows.</summary>
    [Fact]
    public void Bursts_far_apart_are_not_taken_for_rest()
    {
        for (var second = 0; second <= 300; second++)
        {
            series.Sample(Start.AddSeconds(second), second / 7 * 1000L);
        }

        Assert.InRange(1000.0 / 7, series.Range.Low, series.Range.High);
        Assert.True(series.Range.Median > 0);
    }

    [Fact]
    public void What_is_older_than_five_minutes_does_not_count_and_a_counter_that_went_back_begins_anew()
    {
        for (var second = 0; second <= 700; second++)
        {
            series.Sample(Start.AddSeconds(second), second < 350 ? second * 900L : 350 * 900L);
        }

        Assert.Equal(RateRange.Zero, series.Range);
        series.Sample(Start.AddSeconds(701), 10);
        series.Sample(Start.AddSeconds(702), 30);
        Assert.Equal(20, series.Range.Median);
    }

    [Fact]
    public void Lately_is_the_last_ten_seconds_or_the_interval_since_the_sample_before()
    {
        Assert.Equal(0, series.Latest);
        series.Sample(Start, 1000);
        Assert.Equal(0, series.Latest);
        for (var second = 1; second <= 60; second++)
        {
            series.Sample(Start.AddSeconds(second), 1000 + (second * 10) + (Math.Max(0, second - 45) * 90));
        }

        Assert.Equal(100, series.Latest, 6);
        series.Sample(Start.AddSeconds(80), 3350);
        Assert.Equal((3350 - 2950) / 20.0, series.Latest, 6);
        series.Sample(Start.AddSeconds(81), 5);
        Assert.Equal(0, series.Latest);
    }

    [Fact]
    public void The_range_lies_within_what_was_seen()
    {
        Gen.Int[0, 1000]
            .Array[2, 400]
            .Sample(steps =>
            {
                var (any, total) = (new RateSeries(), 0L);
                for (var second = 0; second < steps.Length; second++)
                {
                    any.Sample(Start.AddSeconds(second), total += steps[second]);
                }

                var range = any.Range;
                Assert.True(range.Low <= range.Median && range.Median <= range.High);
                Assert.InRange(range.Low, steps.Skip(1).Min(), steps.Max());
                Assert.InRange(range.High, steps.Skip(1).Min(), steps.Max());
            });
    }
}
