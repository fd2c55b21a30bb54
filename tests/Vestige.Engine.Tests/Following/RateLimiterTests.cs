using Vestige.Core.Crossings;
using Vestige.Engine.Following;
using Xunit;

namespace Vestige.Engine.Tests.Following;

public sealed class RateLimiterTests
{
    private readonly SteppedClock clock = new();

    /// <summary>10 a second: what was applied beyond the limit is owed, and what is applied before that is over adds to it.</summary>
    [Fact]
    public void What_is_owed_is_not_forgotten()
    {
        var definition = new CrossingDefinition("copy", CrossingDefinition.Copy, "a", "b", new TableRules([])) { ChangesPerSecond = 10 };
        var brake = new RateLimiter(() => definition, clock);
        Assert.Equal(TimeSpan.Zero, brake.Wait());
        brake.Applied(100);
        Assert.Equal(TimeSpan.FromSeconds(10), brake.Wait());
        clock.Step(TimeSpan.FromSeconds(4));
        Assert.Equal(TimeSpan.FromSeconds(6), brake.Wait());
        brake.Applied(10);
        Assert.Equal(TimeSpan.FromSeconds(7), brake.Wait());
        clock.Step(TimeSpan.FromSeconds(7));
        Assert.Equal(TimeSpan.Zero, brake.Wait());
    }

    private sealed class SteppedClock : TimeProvider
    {
        private DateTimeOffset now = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

        public override DateTimeOffset GetUtcNow() => now;

        public void Step(TimeSpan time) => now += time;
    }
}
