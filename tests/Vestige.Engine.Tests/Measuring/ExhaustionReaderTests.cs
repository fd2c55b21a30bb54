using Vestige.Core.Forecasting;
using Vestige.Core.Positions;
using Vestige.Engine.Capturing;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Spooling;
using Vestige.Engine.Tests.Doubles;
using Xunit;

namespace Vestige.Engine.Tests.Measuring;

/// <summary>What is forecast of a spool and a source's log, against when that comes.</summary>
public sealed class ExhaustionReaderTests
{
    private const int LogLimit = 60_000;
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);
    private static readonly LogIdentity Log = new("scripted", 1);
    private static readonly ClearingForecast AtRest = Forecast.AtRest(1, [1], []);
    private readonly CancellationToken cancellation = TestContext.Current.CancellationToken;
    private readonly MemoryFiles files = new();

    /// <summary>
    /// A crossing rests, and the source commits unevenly: the spool is full and the log is lost within what was forecast, whenever it was
    /// forecast. Held against a crossing that has applied all, for which neither is ahead.
    /// </summary>
    [Theory]
    [InlineData(1)]
    [InlineData(2)]
    [InlineData(3)]
    public async Task It_comes_within_its_range(int seed)
    {
        var random = new Random(seed);
        await using var spool = await Spool.OpenAsync(
            files,
            new PlainCipher(),
            new SpoolOptions(FileBytes: 2000, BudgetBytes: 48_000, RecordBytes: 200, SpanBytes: 0),
            TimeProvider.System,
            cancellation
        );
        await spool.StartAsync(Log, LogPosition.Zero, cancellation);
        var state = new CaptureState("a", spool);
        spool.Retain("rests", LogPosition.Zero);
        var made = new List<(int Second, LogExhaustion Forecast)>();
        var (second, full, place, held) = (0, 0, 0L, 0L);
        for (; held < LogLimit; second++)
        {
            var committed = random.Next(2, 8);
            if (full == 0)
            {
                await TakeAsync(spool, place, committed);
                spool.Retain("follows", spool.Last);
                await spool.TrimAsync(cancellation);
                full = spool.Full ? second : 0;
            }

            place += committed;
            held = full == 0 ? 0 : held + (committed * 100);
            var now = Start.AddSeconds(second);
            state.Sample(new SourceHead(Log, new LogPosition((ulong)place * 100), LogPosition.Zero, held, LogLimit, null, now), now);
            if (second is 60 or 90)
            {
                made.Add((second, ExhaustionReader.Read("rests", AtRest, spool, state.Status, now)));
                Assert.Equal(
                    LogExhaustion.None,
                    ExhaustionReader.Read("follows", Forecast.WhenClear(0, [1], []), spool, state.Status, now)
                );
                Assert.Equal(LogExhaustion.None, ExhaustionReader.Read("unknown", AtRest, spool, state.Status, now));
            }
        }

        Assert.InRange(full, 91, second);
        Assert.All(made, one =>
        {
            Assert.InRange(
                full - one.Second,
                one.Forecast.SpoolFull.Soonest!.Value.TotalSeconds - 1,
                one.Forecast.SpoolFull.Latest!.Value.TotalSeconds + 1
            );
            Assert.InRange(
                second - one.Second,
                one.Forecast.LogLost.Soonest!.Value.TotalSeconds - 1,
                one.Forecast.LogLost.Latest!.Value.TotalSeconds + 1
            );
        });
    }

    [Fact]
    public async Task A_log_that_is_not_heard_of_is_taken_to_have_grown_since()
    {
        await using var spool = await Spool.OpenAsync(files, new PlainCipher(), new SpoolOptions(), TimeProvider.System, cancellation);
        await spool.StartAsync(Log, LogPosition.Zero, cancellation);
        spool.Retain("copy", LogPosition.Zero);
        var state = new CaptureState("a", spool);
        for (var second = 0; second <= 20; second++)
        {
            state.Sample(
                new SourceHead(Log, new LogPosition((ulong)second * 100), LogPosition.Zero, 1000, 11_000, null, Start.AddSeconds(second)),
                Start.AddSeconds(second)
            );
        }

        state.Waits("cut", Start.AddSeconds(20));
        TimeSpan? Lost(int second) => ExhaustionReader.Read("copy", AtRest, spool, state.Status, Start.AddSeconds(second)).LogLost.In;
        Assert.Equal(TimeSpan.FromSeconds(100), Lost(20));
        Assert.Equal(TimeSpan.FromSeconds(70), Lost(50));
        Assert.Equal(TimeSpan.Zero, Lost(500));
    }

    [Fact]
    public async Task Of_a_full_spool_only_who_fills_it_is_told()
    {
        await using var spool = await Spool.OpenAsync(
            files,
            new PlainCipher(),
            new SpoolOptions(FileBytes: 500, BudgetBytes: 4000, RecordBytes: 200, SpanBytes: 0),
            TimeProvider.System,
            cancellation
        );
        await spool.StartAsync(Log, LogPosition.Zero, cancellation);
        spool.Retain("rests", LogPosition.Zero);
        var state = new CaptureState("a", spool);
        var second = 0;
        for (; !spool.Full; second++)
        {
            await TakeAsync(spool, second * 2, 2);
            state.Sample(
                new SourceHead(Log, new LogPosition((ulong)second * 100), LogPosition.Zero, 1000, 11_000, null, Start.AddSeconds(second)),
                Start.AddSeconds(second)
            );
        }

        spool.Retain("follows", spool.Last);
        state.Waits("full", Start.AddSeconds(second));
        var told = ExhaustionReader.Read("rests", AtRest, spool, state.Status, Start.AddSeconds(second));
        Assert.Equal((TimeSpan.Zero, true), (told.SpoolFull.In, told.LogLost.In > TimeSpan.Zero));
        Assert.Equal(
            LogExhaustion.None,
            ExhaustionReader.Read("follows", Forecast.WhenClear(0, [1], []), spool, state.Status, Start.AddSeconds(second))
        );
        Assert.True(told.IsBefore(LogExhaustion.None) && !LogExhaustion.None.IsBefore(told));
    }

    private async Task TakeAsync(Spool spool, long from, int count)
    {
        for (var i = 1; i <= count; i++)
        {
            await spool.AppendAsync(ScriptedSource.Read(ScriptedSource.Fragment(from + i)), DateTimeOffset.UnixEpoch, cancellation);
        }

        await spool.SyncAsync(cancellation);
    }
}
