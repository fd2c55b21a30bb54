using Vestige.Core.Lag;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>Time at rest, and delays told without it.</summary>
public sealed class OwnRestsTests
{
    private static readonly DateTimeOffset Start = new(2026, 3, 1, 12, 0, 0, TimeSpan.Zero);
    private readonly OwnRests rests = new();

    [Fact]
    public void Rests_that_overlap_count_once()
    {
        Assert.Equal(0, Within(0, 100));
        rests.Begin(OwnRest.Load, At(10));
        rests.Begin(OwnRest.Pause, At(20));
        rests.Begin(OwnRest.Pause, At(21));
        rests.End(OwnRest.Load, At(30));
        rests.End(OwnRest.Rule, At(31));
        rests.End(OwnRest.Pause, At(40));
        Assert.Equal(30, Within(0, 100));
        Assert.Equal(5, Within(35, 50));
        Assert.Equal(2, Within(12, 14));
        Assert.Equal(0, Within(40, 50));
        Assert.Equal(0, Within(50, 40));
    }

    [Fact]
    public void A_rest_that_lasts_counts_until_now()
    {
        rests.Begin(OwnRest.Rule, At(10));
        Assert.Equal(15, Within(5, 25));

        // A clock that was set back neither adds nor takes.
        rests.End(OwnRest.Rule, At(8));
        Assert.Equal(0, Within(0, 100));
    }

    /// <summary>
    /// A crossing that works 80 ms on each transaction while it does not rest: with loads, pauses and limits between, its delay is 80 ms.
    /// </summary>
    [Fact]
    public void Delays_are_those_of_the_hops_whatever_rests_lie_between()
    {
        var seed = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}");
        var (random, delays, naive, ends) = (new Random(seed), new DelayHistogram(), new DelayHistogram(), new List<double> { 0 });
        for (var i = 0; i < 300; i++)
        {
            var (begin, length) = (ends[^1] + (random.NextDouble() * 100), random.NextDouble() * 60);
            var kind = (OwnRest)random.Next(3);
            rests.Begin(kind, At(begin));
            rests.End(kind, At(begin + length));
            ends.AddRange([begin, begin + length]);
        }

        for (var i = 0; i < 20_000; i++)
        {
            var committed = random.NextDouble() * ends[^1];
            var applied = AppliedAfter(committed, 0.08, ends);
            var rest = rests.Within(At(committed), At(applied));
            delays.Record(HopDelays.Between(At(committed), At(committed), At(committed), TimeSpan.Zero, At(applied), rest).Total);
            naive.Record(At(applied) - At(committed));
        }

        Assert.True(Math.Abs(delays.Quantile(0.99)!.Value.TotalSeconds - 0.08) < 0.002, $"{delays.Quantile(0.99)}; seed {seed}");
        Assert.True(naive.Quantile(0.99)!.Value.TotalSeconds > 5, $"{naive.Quantile(0.99)}; seed {seed}");
    }

    [Fact]
    public void So_many_rests_that_some_are_forgotten_are_told_of_about_as_long()
    {
        for (var i = 0; i < 20_000; i++)
        {
            rests.Begin(OwnRest.Rule, At(i));
            rests.End(OwnRest.Rule, At(i + 0.25));
        }

        Assert.Equal(5_000, Within(0, 30_000), 3);
        Assert.Equal(250, Within(18_000, 19_000), 3);
        Assert.InRange(Within(2_000, 3_000), 200, 300);
    }

    /// <summary>The moment at which the work is done. Work pauses during each rest.</summary>
    private static double AppliedAfter(double from, double work, List<double> ends)
    {
        var now = from;
        for (var i = 1; i < ends.Count; i += 2)
        {
            var (begin, end) = (ends[i], ends[i + 1]);
            if (end <= now)
            {
                continue;
            }

            if (now < begin)
            {
                if (now + work <= begin)
                {
                    return now + work;
                }

                work -= begin - now;
            }

            now = end;
        }

        return now + work;
    }

    private static DateTimeOffset At(double seconds) => Start + TimeSpan.FromSeconds(seconds);

    private double Within(double from, double to) => rests.Within(At(from), At(to)).TotalSeconds;
}
