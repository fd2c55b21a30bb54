using Vestige.Core.Text;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>Durations in forms.</summary>
public sealed class DurationsTests
{
    [Theory]
    [InlineData("6 h", 21_600)]
    [InlineData("15 min", 900)]
    [InlineData("15min", 900)]
    [InlineData("1 h 30 min", 5_400)]
    [InlineData("1.5 h", 5_400)]
    [InlineData("2 d 4 h", 187_200)]
    [InlineData(" 90 ", 90)]
    [InlineData("0.3 s", 0.3)]
    [InlineData("250 MS", 0.25)]
    [InlineData("0 s", 0)]
    public void What_is_typed_is_understood(string text, double seconds)
    {
        Assert.True(Durations.TryParse(text, out var span));
        Assert.Equal(seconds, span.TotalSeconds, 6);
    }

    [Theory]
    [InlineData(null)]
    [InlineData("")]
    [InlineData("long")]
    [InlineData("5 parsecs")]
    [InlineData("-5 s")]
    [InlineData("1 min 2 h")]
    [InlineData("1 h 30")]
    [InlineData("1.2.3 s")]
    [InlineData("99999999999999999 d")]
    [InlineData("s")]
    public void What_means_nothing_or_two_things_is_refused(string? text) => Assert.False(Durations.TryParse(text, out _));

    [Fact]
    public void What_is_written_is_read_back_as_the_same()
    {
        var seed = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}");
        var random = new Random(seed);
        for (var i = 0; i < 2_000; i++)
        {
            var span = TimeSpan.FromMilliseconds(random.NextInt64((long)Math.Pow(10, random.Next(1, 12))));
            var isRead = Durations.TryParse(Durations.Exact(span), out var read);
            Assert.True(isRead && read == span, $"{span} is written as {Durations.Exact(span)} and read as {read}; seed {seed}");
        }

        Assert.Equal("6 h", Durations.Exact(TimeSpan.FromHours(6)));
        Assert.Equal("1 min 40 s", Durations.Exact(TimeSpan.FromSeconds(100)));
        Assert.Equal("0 s", Durations.Exact(TimeSpan.Zero));
    }
}
