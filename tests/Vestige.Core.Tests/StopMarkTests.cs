using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Xunit;

namespace Vestige.Core.Tests;

public sealed class StopMarkTests
{
    private static readonly DateTimeOffset Time = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    [Fact]
    public void What_was_committed_exactly_at_the_time_is_not_behind_the_mark()
    {
        var mark = new StopMark(Time: Time);
        Assert.False(mark.IsBefore(new LogPosition(7), Time));
        Assert.True(mark.IsBefore(new LogPosition(7), Time + TimeSpan.FromMicroseconds(1)));
    }

    [Fact]
    public void What_stands_exactly_at_the_position_is_not_behind_the_mark()
    {
        var mark = new StopMark(new LogPosition(7));
        Assert.False(mark.IsBefore(new LogPosition(7), Time));
        Assert.True(mark.IsBefore(new LogPosition(8), Time));
    }
}
