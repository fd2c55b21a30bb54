using Vestige.Engine.Reconciling;
using Xunit;

namespace Vestige.Engine.Tests.Reconciling;

/// <summary>The pace of the walk: neither more rows a second nor more of the time than its rule says.</summary>
public class ReadingPaceTests
{
    [Theory]
    [InlineData(1000.0, null, 20.0)]
    [InlineData(null, 0.1, 20.0)]
    [InlineData(null, 1.0, 2.0)]
    [InlineData(1000.0, 0.1, 20.0)]
    [InlineData(100.0, 0.5, 200.0)]
    [InlineData(null, null, 1.0)]
    public async Task Rows_and_time_are_held_to_what_was_set(double? rowsPerSecond, double? share, double seconds)
    {
        var clock = new HandClock();
        var began = clock.GetUtcNow();
        var pace = new ReadingPace(rowsPerSecond, share, clock);
        for (var part = 0; part < 20; part++)
        {
            // Each part reads 1,000 rows in 50 ms.
            clock.Advance(TimeSpan.FromMilliseconds(50));
            pace.Count(1000);
            await pace.RestAsync(TestContext.Current.CancellationToken);
        }

        Assert.Equal(seconds, (clock.GetUtcNow() - began).TotalSeconds, 1);
    }

    /// <summary>Whoever waits is woken at once, and the time has come.</summary>
    private sealed class HandClock : TimeProvider
    {
        private DateTimeOffset now = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

        public override DateTimeOffset GetUtcNow() => now;

        public void Advance(TimeSpan by) => now += by;

        public override ITimer CreateTimer(TimerCallback callback, object? state, TimeSpan dueTime, TimeSpan period)
        {
            Advance(dueTime);
            ThreadPool.QueueUserWorkItem(_ => callback(state));
            return new Rung();
        }

        private sealed class Rung : ITimer
        {
            public bool Change(TimeSpan dueTime, TimeSpan period) => true;

            public void Dispose() { }

            public ValueTask DisposeAsync() => ValueTask.CompletedTask;
        }
    }
}
