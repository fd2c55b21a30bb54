using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Core.Forecasting;
using Vestige.Core.Lag;
using Vestige.Core.Measures;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Engine.Tests.Measuring;

/// <summary>Measures on their way into the store, minute by minute, through restarts and a store that fails.</summary>
public sealed class MeasureRecorderTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 22, 58, 0, TimeSpan.Zero);
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly Store store = new();
    private CrossingMeter meter = new();
    private MeasureRecorder recorder;
    private long arrived;

    public MeasureRecorderTests() => recorder = new MeasureRecorder(store, NullLogger.Instance);

    [Fact]
    public async Task Seconds_minutes_and_hours_add_up_over_the_ends_of_hour_and_day()
    {
        await RunAsync(0, 125);
        var seconds = await ReadAsync(MeasureStep.Second);
        var minutes = await ReadAsync(MeasureStep.Minute);
        var hours = await ReadAsync(MeasureStep.Hour);
        Assert.Equal(125, minutes.Count);
        Assert.Equal(60, seconds.Count(slot => slot.Start >= Start.AddMinutes(1) && slot.Start < Start.AddMinutes(2)));
        Assert.Equal(
            [Start.AddMinutes(-58), Start.AddMinutes(2), Start.AddMinutes(62), Start.AddMinutes(122)],
            hours.Select(slot => slot.Start)
        );
        foreach (var slots in new[] { minutes, hours })
        {
            Assert.Equal(seconds.Sum(slot => slot.Applied), slots.Sum(slot => slot.Applied), 3);
            Assert.Equal(125 * 60, slots.Sum(slot => slot.Delays.Count));
        }

        Assert.Equal(minutes.Max(slot => slot.Behind), hours.Max(slot => slot.Behind));
    }

    [Fact]
    public async Task A_restart_goes_on_with_the_hour_and_the_day_that_were_open_and_knows_the_last_hour()
    {
        await RunAsync(0, 10);
        meter = new CrossingMeter();
        recorder = new MeasureRecorder(store, NullLogger.Instance);
        await recorder.RecallAsync("c", meter, Start.AddMinutes(10), cancellation);
        Assert.True(meter.PointsSince(Start).Count > 590);
        await RunAsync(10, 20);
        Assert.Equal(20, (await ReadAsync(MeasureStep.Minute)).Count);
        Assert.Equal(20 * 60, (await ReadAsync(MeasureStep.Hour)).Sum(slot => slot.Delays.Count));
    }

    /// <summary>Also where the store failed when they were to be kept: they are, as soon as another is judged.</summary>
    [Fact]
    public async Task How_good_forecasts_were_is_known_to_the_next_process_which_adds_its_own()
    {
        await RunAsync(0, 1);
        HoldForecast(ForecastKind.SpoolFull, forecast: 120, took: 100);
        store.Fails = true;
        await RunAsync(1, 3);
        store.Fails = false;
        HoldForecast(ForecastKind.SpoolFull, forecast: 100, took: 100);
        HoldForecast(ForecastKind.LogLost, forecast: 30, took: 60);
        await RunAsync(3, 5);
        Assert.Equal(new ForecastQualities(null, null, new(2, 0, 2, 0.5), new(1, 0.5, 1, 0)), meter.PastForecasts);
        Assert.Empty(meter.TakeScored());

        var earlier = meter.PastForecasts;
        meter = new CrossingMeter();
        recorder = new MeasureRecorder(store, NullLogger.Instance);
        await recorder.RecallAsync("c", meter, Start.AddMinutes(5), cancellation);
        Assert.Equal(earlier, meter.PastForecasts);
        Assert.Empty(meter.TakeScored());
        for (var i = 0; i < PastForecasts.Kept; i++)
        {
            HoldForecast(ForecastKind.SpoolFull, forecast: 50, took: 100);
        }

        Assert.Equal(new(PastForecasts.Kept, 0.5, PastForecasts.Kept, 0), meter.PastForecasts.SpoolFull);
        Assert.Equal(PastForecasts.Kept, Assert.Single(meter.TakeScored()).Judged.Count);
    }

    private void HoldForecast(ForecastKind kind, int forecast, int took)
    {
        var ends = TimeSpan.FromSeconds(forecast);
        meter.Forecasts(kind, new ForecastTime(ends, ends, ends), happened: false, Start);
        meter.Forecasts(kind, ForecastTime.Never, happened: true, Start.AddSeconds(took));
    }

    [Fact]
    public async Task A_store_that_fails_for_a_while_costs_only_the_seconds_of_that_while()
    {
        await RunAsync(2, 4);
        store.Fails = true;
        await RunAsync(4, 6);
        store.Fails = false;
        await RunAsync(6, 8);
        Assert.Equal(6 * 60, (await ReadAsync(MeasureStep.Minute)).Sum(slot => slot.Delays.Count));
        Assert.Equal(6 * 60, (await ReadAsync(MeasureStep.Hour)).Sum(slot => slot.Delays.Count));
    }

    /// <summary>To the minute: never before it was applied, and never later than the end of that minute.</summary>
    [Fact]
    public async Task By_when_something_was_applied_is_known_to_the_next_process()
    {
        await RunAsync(0, 70);
        var after = new CrossingMeter();
        await new MeasureRecorder(store, NullLogger.Instance).RecallAsync("c", after, Start.AddMinutes(70), cancellation);
        Assert.Null(after.AppliedAt(new LogPosition(59)));
        for (var second = 59; second < 70 * 60; second++)
        {
            Assert.InRange(
                after.AppliedAt(new LogPosition((ulong)second + 1))!.Value,
                Start.AddSeconds(second),
                Start.AddMinutes((second / 60) + 1)
            );
        }

        // What the next process applies comes after it, and a target that was set back forgets it.
        Assert.Null(after.AppliedAt(new LogPosition(4300)));
        after.Committed(Report(4300), Start.AddMinutes(75));
        Assert.Equal(Start.AddMinutes(75), after.AppliedAt(new LogPosition(4300)));
        Assert.InRange(after.AppliedAt(new LogPosition(601))!.Value, Start.AddMinutes(10), Start.AddMinutes(11));
        after.Committed(Report(100), Start.AddMinutes(76));
        Assert.Null(after.AppliedAt(new LogPosition(99)));
    }

    [Fact]
    public async Task A_crossing_that_is_removed_leaves_nothing()
    {
        await RunAsync(0, 2);
        HoldForecast(ForecastKind.Load, 50, 50);
        await RunAsync(2, 4);
        Assert.NotEmpty(await store.ScoredAsync("c", cancellation));
        await recorder.ForgetAsync("c", cancellation);
        Assert.Empty(await store.ScoredAsync("c", cancellation));
        Assert.Empty(await ReadAsync(MeasureStep.Minute));
    }

    private static BatchReport Report(ulong upto) => new(1, new Dictionary<TableName, TableTally>(), [], [], new LogPosition(upto));

    /// <summary>A change and a transaction each second, and each second the timer.</summary>
    private async Task RunAsync(int from, int to)
    {
        for (var second = from * 60; second <= to * 60; second++)
        {
            var now = Start.AddSeconds(second);
            await recorder.KeepAsync([("c", meter)], now, cancellation);
            if (second == to * 60)
            {
                return;
            }

            meter.Committed(
                new BatchReport(
                    10,
                    new Dictionary<TableName, TableTally>(),
                    [],
                    [new HopDelays(TimeSpan.Zero, TimeSpan.Zero, TimeSpan.Zero, TimeSpan.FromSeconds(1 + (second % 7)))],
                    new LogPosition((ulong)second + 1)
                ),
                now
            );
            meter.Sample(
                now,
                new LagReading(TimeSpan.FromSeconds(second % 50), false, false),
                TimeSpan.Zero,
                TimeSpan.Zero,
                TimeSpan.FromSeconds(second % 50),
                arrived += 10,
                5
            );
        }
    }

    private Task<IReadOnlyList<MeasureSlot>> ReadAsync(MeasureStep step) =>
        store.ReadAsync("c", step, Start.AddDays(-1), Start.AddDays(2), cancellation);

    private sealed class Store : IMeasureStore
    {
        private readonly SortedDictionary<(MeasureStep Step, DateTimeOffset Start), MeasureBlock> blocks = new(
            Comparer<(MeasureStep Step, DateTimeOffset Start)>.Create(
                (left, right) => (left.Step.Slot, left.Start).CompareTo((right.Step.Slot, right.Start))
            )
        );

        public bool Fails { get; set; }

        private readonly SortedDictionary<DateTimeOffset, AppliedBlock> hours = [];
        private readonly Dictionary<ForecastKind, ScoredBlock> forecasts = [];

        public Task KeepAsync(
            IReadOnlyList<MeasureBlock> kept,
            IReadOnlyList<AppliedBlock> applied,
            IReadOnlyList<ScoredBlock> judged,
            DateTimeOffset now,
            CancellationToken cancellation
        )
        {
            foreach (var block in Fails ? [] : applied)
            {
                hours[block.Start] = block;
            }

            foreach (var block in Fails ? throw new PortException("The disk is full.") { Transient = true } : kept)
            {
                blocks[(block.Step, block.Start)] = block;
            }

            foreach (var block in judged)
            {
                forecasts[block.Kind] = block;
            }

            return Task.CompletedTask;
        }

        public Task<IReadOnlyList<ScoredBlock>> ScoredAsync(string crossing, CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<ScoredBlock>>([.. forecasts.Values]);

        public Task<IReadOnlyList<MeasureSlot>> ReadAsync(
            string crossing,
            MeasureStep step,
            DateTimeOffset from,
            DateTimeOffset before,
            CancellationToken cancellation
        ) =>
            Task.FromResult<IReadOnlyList<MeasureSlot>>([
                .. blocks
                    .Values.Where(block => block.Step == step)
                    .SelectMany(block => block.Slots)
                    .Where(slot => slot.Start >= from && slot.Start < before),
            ]);

        public Task<IReadOnlyList<AppliedTime>> AppliedAsync(string crossing, DateTimeOffset from, CancellationToken cancellation) =>
            Task.FromResult<IReadOnlyList<AppliedTime>>([
                .. hours.Values.Where(block => block.Start >= MeasureStep.Hour.SlotOf(from)).SelectMany(block => block.Times),
            ]);

        public Task ForgetAsync(string crossing, CancellationToken cancellation)
        {
            blocks.Clear();
            forecasts.Clear();
            return Task.CompletedTask;
        }
    }
}
