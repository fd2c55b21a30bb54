using Vestige.Core.Forecasting;
using Vestige.Core.Lag;
using Vestige.Core.Schemas;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Engine.Tests.Measuring;

/// <summary>Rates, delays and forecasts from what a crossing did.</summary>
public sealed class MeterTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);
    private static readonly TableName Loan = new("circulation", "loan");
    private readonly CrossingMeter meter = new();

    [Fact]
    public void Rates_are_what_came_and_went_by_the_second()
    {
        Sample(0, arrived: 0, backlog: 0);
        meter.Committed(Batch(300), Start.AddSeconds(1));
        Sample(1, arrived: 500, backlog: 200);
        meter.Committed(Batch(100), Start.AddSeconds(3));
        Sample(3, arrived: 500, backlog: 100);
        Assert.Equal((250, 175), meter.Rates());
        Assert.Equal((0, 50), meter.Rates(1));
    }

    [Fact]
    public void A_crossing_at_rest_shows_no_capacity()
    {
        for (var second = 0; second <= 60; second++)
        {
            meter.Sample(Start.AddSeconds(second), default, default, default, default, second * 100, 50, applies: false);
        }

        Assert.Equal(Clearing.NotMeasured, meter.WhenClear(1000).Outcome);
        Assert.Equal((Clearing.AtRest, null), (meter.WhenClear(1000, applies: false).Outcome, meter.WhenClear(1000, applies: false).In));
    }

    [Fact]
    public void Capacity_is_taken_only_from_seconds_with_a_backlog_throughout()
    {
        for (var second = 0; second <= 20; second++)
        {
            meter.Committed(Batch(100), Start.AddSeconds(second));
            meter.Idle();
            Sample(second, arrived: second * 100, backlog: 50);
        }

        Assert.Equal(Clearing.NotMeasured, meter.WhenClear(1000).Outcome);
        for (var second = 21; second <= 60; second++)
        {
            meter.Committed(Batch(300), Start.AddSeconds(second));
            Sample(second, arrived: second * 100, backlog: 5000);
        }

        var clears = meter.WhenClear(2000);
        Assert.Equal(Clearing.Clears, clears.Outcome);
        Assert.Equal(10, clears.In!.Value.TotalSeconds, 1e-9);
    }

    /// <summary>Rates from before the limit do not count: 64 changes a second arrive, and 5 may be applied.</summary>
    [Fact]
    public void A_limit_is_the_capacity_as_soon_as_it_is_set()
    {
        Assert.Equal(Clearing.Clears, meter.WhenClear(100, limit: 5).Outcome);
        for (var second = 0; second <= 60; second++)
        {
            meter.Committed(Batch(100), Start.AddSeconds(second));
            Sample(second, arrived: second * 64, backlog: 5000);
        }

        Assert.Equal(Clearing.Clears, meter.WhenClear(5000).Outcome);
        var limited = meter.WhenClear(5000, limit: 5);
        Assert.Equal((Clearing.Never, 64, 5), (limited.Outcome, limited.Arriving, limited.Applied));
    }

    [Fact]
    public void A_rest_of_its_own_is_in_no_hop_and_told_beside_them()
    {
        meter.RestBegins(OwnRest.Pause, Start);
        meter.RestEnds(OwnRest.Pause, Start.AddMinutes(10));
        var applied = Start.AddMinutes(10).AddSeconds(2);
        var rested = meter.Rested(Start.AddSeconds(2), applied);
        var delay = HopDelays.Between(Start, Start.AddSeconds(1), Start.AddSeconds(2), default, applied, rested);
        meter.Committed(new BatchReport(1, new Dictionary<TableName, TableTally>(), [], [delay]), applied);
        Assert.Equal(TimeSpan.FromSeconds(4), meter.MeanHops(applied)!.Value.Total);
        Assert.Equal(TimeSpan.FromSeconds(598), meter.MeanHops(applied)!.Value.Rest);
        Assert.InRange(meter.Delay(0.95, applied)!.Value.TotalSeconds, 3.9, 4.1);
    }

    [Fact]
    public void The_quantile_forgets_what_is_older_than_five_minutes()
    {
        meter.Committed(Batch(1, TimeSpan.FromSeconds(90)), Start);
        meter.Committed(Batch(1, TimeSpan.FromSeconds(1)), Start.AddMinutes(1));
        Assert.InRange(meter.Delay(1, Start.AddMinutes(1))!.Value.TotalSeconds, 88, 92);
        Assert.InRange(meter.Delay(1, Start.AddMinutes(5.5))!.Value.TotalSeconds, 0.98, 1.02);
        Assert.Null(meter.Delay(1, Start.AddMinutes(20)));
    }

    /// <summary>Both kinds, side by side: loads that end as forecast or a third later, and one that was given up.</summary>
    [Fact]
    public void Forecasts_of_loads_are_held_against_their_end()
    {
        Assert.Equal(new ForecastQualities(null, null, null, null), meter.PastForecasts);
        Load(from: 0, seconds: 60, forecast: 60);
        Assert.Equal(
            (6, 0, 1),
            (meter.PastForecasts.Load!.Count, meter.PastForecasts.Load.MedianError, meter.PastForecasts.Load.WithinRange)
        );
        Load(from: 100, seconds: 30, forecast: 20);
        Assert.Equal(9, meter.PastForecasts.Load!.Count);
        Assert.InRange(meter.PastForecasts.Load.WithinRange, 0.66, 0.67);
        Load(from: 200, seconds: 30, forecast: 20, done: false);
        Assert.Equal((9, null), (meter.PastForecasts.Load!.Count, meter.PastForecasts.Clearing));
    }

    private void Load(int from, int seconds, int forecast, bool done = true)
    {
        for (var second = 0; second < seconds; second++)
        {
            var ends = TimeSpan.FromSeconds(Math.Max(1, forecast - second));
            meter.Forecasts(ForecastKind.Load, new ForecastTime(ends, ends, ends), false, Start.AddSeconds(from + second));
        }

        meter.Forecasts(ForecastKind.Load, null, done, Start.AddSeconds(from + seconds));
    }

    [Fact]
    public void Delays_are_told_from_a_minute_on()
    {
        meter.Committed(Batch(1, TimeSpan.FromSeconds(90)), Start.AddSeconds(59));
        meter.Committed(Batch(1, TimeSpan.FromSeconds(1)), Start.AddSeconds(60));
        meter.Committed(Batch(1, TimeSpan.FromSeconds(2)), Start.AddSeconds(130));
        Assert.Equal(
            [3, 2, 1, 0],
            Enumerable.Range(0, 4).Select(minute => (int)meter.DelaysSince(Start.AddMinutes(minute), Start.AddSeconds(140)).Count)
        );
    }

    [Fact]
    public void Tallies_and_the_latest_changes_are_kept()
    {
        for (var i = 0; i < 100; i++)
        {
            var change = new RecentChange(Loan, Core.Changes.ChangeKind.Update, $"{i}", default, Start, Start, Origin: null);
            var tally = TableTally.None with { Updates = 1, LastChangeAt = Start.AddSeconds(i) };
            meter.Committed(new BatchReport(1, new Dictionary<TableName, TableTally> { [Loan] = tally }, [change], []), Start);
        }

        meter.Unexpected(Loan, new ApplyCounts(2, 1));
        Assert.Equal(
            (100, Start.AddSeconds(99), 3),
            (meter.TallyOf(Loan).Updates, meter.TallyOf(Loan).LastChangeAt!.Value, meter.TallyOf(Loan).Unexpected.Total)
        );
        Assert.Equal(60, meter.Recent.Count);
        Assert.Equal("99", meter.Recent[0].Key);
        Assert.Equal(0, meter.TallyOf(new TableName("circulation", "fine")).Total);
    }

    [Fact]
    public void The_mean_hops_are_of_the_last_ten_seconds()
    {
        Assert.Null(meter.MeanHops(Start));
        meter.Committed(Batch(1, TimeSpan.FromSeconds(100)), Start);
        meter.Committed(Batch(1, TimeSpan.FromSeconds(2)), Start.AddSeconds(11));
        meter.Committed(Batch(1, TimeSpan.FromSeconds(4)), Start.AddSeconds(12));
        Assert.Equal(TimeSpan.FromSeconds(3), meter.MeanHops(Start.AddSeconds(12))!.Value.Apply);
    }

    [Fact]
    public void An_hour_of_points_is_kept()
    {
        for (var second = 0; second < 4000; second++)
        {
            Sample(second, arrived: second, backlog: 0);
        }

        Assert.Equal(3600, meter.PointsSince(DateTimeOffset.MinValue).Count);
        Assert.Equal(10, meter.PointsSince(Start.AddSeconds(3989)).Count);
    }

    private static BatchReport Batch(long changes, TimeSpan? delay = null) =>
        new(
            changes,
            new Dictionary<TableName, TableTally>(),
            [],
            delay is { } apply ? [new HopDelays(TimeSpan.Zero, TimeSpan.Zero, TimeSpan.Zero, apply)] : []
        );

    private void Sample(int second, long arrived, long backlog) =>
        meter.Sample(Start.AddSeconds(second), default, TimeSpan.Zero, TimeSpan.Zero, TimeSpan.Zero, arrived, backlog);
}
