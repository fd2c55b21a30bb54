using Vestige.Core.Schemas;
using Vestige.Engine.Measuring;
using Xunit;

namespace Vestige.Engine.Tests.Measuring;

public class HeldTimesTests
{
    private static readonly DateTimeOffset Start = new(2026, 11, 30, 9, 0, 0, TimeSpan.Zero);
    private static readonly TableName Loan = new("circulation", "loan");

    [Fact]
    public void A_table_is_held_since_it_was_first_seen_to_be()
    {
        var times = new HeldTimes();
        Assert.Null(Of(times, isHeld: false, 0));
        Assert.Equal(Start.AddMinutes(1), Of(times, isHeld: true, 1));
        Assert.Equal(Start.AddMinutes(1), Of(times, isHeld: true, 2));
        Assert.Null(Of(times, isHeld: false, 3));
        Assert.Equal(Start.AddMinutes(4), Of(times, isHeld: true, 4));
    }

    [Fact]
    public void A_table_that_was_held_before_a_restart_is_so_since_its_event()
    {
        var (times, other) = (new HeldTimes(), new TableName("circulation", "loans"));
        var first = times.Look([Loan, other], Start, table => table == Loan ? Start.AddHours(-1) : null);
        Assert.Equal((Start.AddHours(-1), null), (first[Loan], first[other]));
        Assert.Equal(Start.AddHours(-1), Of(times, isHeld: true, 1));
    }

    private static DateTimeOffset? Of(HeldTimes times, bool isHeld, int minutes) =>
        times
            .Look(
                isHeld ? [Loan] : [],
                Start.AddMinutes(minutes),
                _ => throw new InvalidOperationException("No event is asked for.")
            )
            .GetValueOrDefault(Loan);
}
