using Vestige.Core.Crossings;
using Vestige.Engine.Following;
using Vestige.Engine.Measuring;
using Vestige.Engine.Ports;
using Vestige.Engine.Tests.Doubles;
using Vestige.Engine.Workers;
using Xunit;

namespace Vestige.Engine.Tests.Workers;

public sealed class WorkerRestsTests
{
    private static readonly TimeSpan Patience = TimeSpan.FromSeconds(20);

    /// <summary>
    /// On a busy machine a millisecond or two pass between two looks at the clock. A delay of minus one millisecond never ends, and one
    /// of less is refused (.NET's documentation of Task.Delay).
    /// </summary>
    [Theory]
    [InlineData(0.5)]
    [InlineData(2.5)]
    [InlineData(3.5)]
    [InlineData(7)]
    public async Task A_rest_ends_however_time_passes_while_it_is_measured(double milliseconds)
    {
        using var steering = new Steering();
        var clock = new HurryingClock(TimeSpan.FromMilliseconds(milliseconds));
        var definition = new CrossingDefinition("copy", CrossingDefinition.Copy, "a", "b", new TableRules([]));
        var rests = new WorkerRests(new RateLimiter(() => definition, clock), new CrossingMeter(), steering, clock);
        var rest = rests.ForAsync(
            new ProgressSession(TargetProgress.None),
            TimeSpan.FromMilliseconds(milliseconds * 1.5),
            TestContext.Current.CancellationToken
        );
        Assert.Same(rest, await Task.WhenAny(rest, Task.Delay(Patience, TestContext.Current.CancellationToken)));
        await rest;
    }

    /// <summary>At each look it is so much later; what waits on it waits in true time.</summary>
    private sealed class HurryingClock(TimeSpan step) : TimeProvider
    {
        private DateTimeOffset now = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

        public override DateTimeOffset GetUtcNow() => now += step;
    }
}
