using Microsoft.Extensions.Logging.Abstractions;
using Vestige.Core.Schemas;
using Vestige.Engine.Events;
using Vestige.Engine.Measuring;
using Vestige.Engine.Tests.Doubles;
using Xunit;

namespace Vestige.Engine.Tests.Measuring;

public class HeldTimesTests
{
    private static readonly DateTimeOffset Earlier = new(2026, 11, 30, 9, 0, 0, TimeSpan.Zero);
    private static readonly TableName Loan = new("circulation", "loan");

    [Fact]
    public void A_table_is_held_since_it_was_first_seen_to_be()
    {
        var times = new HeldTimes(Events(), TimeProvider.System);
        Assert.Null(times.Of("copy", Loan, isHeld: false));
        var began = DateTimeOffset.UtcNow;
        var since = times.Of("copy", Loan, isHeld: true);
        Assert.InRange(since!.Value, began, DateTimeOffset.UtcNow);
        Assert.Equal(since, times.Of("copy", Loan, isHeld: true));
        Assert.Null(times.Of("copy", Loan, isHeld: false));
        Assert.True(times.Of("copy", Loan, isHeld: true) >= since);
    }

    [Fact]
    public void A_table_that_was_held_before_a_restart_is_so_since_its_event()
    {
        var events = Events();
        events.Recall(
            [
                new CrossingEvent(Earlier, "copy", null, EventKind.Warning, $"{HeldTimes.TextOf(Loan)}A column was added.", "engine"),
                new CrossingEvent(Earlier.AddHours(1), "other", null, EventKind.Warning, HeldTimes.TextOf(Loan), "engine"),
            ]
        );
        var times = new HeldTimes(events, TimeProvider.System);
        Assert.Equal(Earlier, times.Of("copy", Loan, isHeld: true));
        Assert.Null(times.Of("copy", new TableName("circulation", "loans"), isHeld: true));
    }

    private static EventLog Events() => new(new MemoryStore(), TimeProvider.System, NullLogger.Instance);
}
