using CsCheck;
using Vestige.Core.Changes;
using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>R. L. Graham, "Bounds on multiprocessing timing anomalies", SIAM J. Appl. Math. 17 (1969), theorem on longest first.</summary>
public class LoadPlanTests
{
    [Fact]
    public void The_finish_is_within_Grahams_bound_of_the_best_possible()
    {
        Gen.Select(Gen.Int[1, 40].Array[1, 8], Gen.Int[1, 3])
            .Sample(
                (costs, workers) =>
                {
                    var plan = LoadPlan.LongestFirst([.. costs.Select(cost => (double)cost)], workers);
                    var best = Best(costs, new int[workers], 0);
                    Assert.InRange(plan.Makespan, best, (best * LoadPlan.Bound(workers)) + 1e-9);
                }
            );
    }

    private static Row Key(long number)
    {
        var writer = new RowWriter();
        writer.Begin(1);
        writer.Integer(number);
        return writer.ToRow();
    }

    [Fact]
    public void Grahams_own_example_reaches_the_bound()
    {
        // The tight example for two machines (given from memory): 3, 3, 2, 2, 2 finish at 7 instead of 6, which is 4/3 − 1/6.
        var plan = LoadPlan.LongestFirst([3, 3, 2, 2, 2], 2);
        Assert.Equal(7, plan.Makespan);
        Assert.Equal(7.0 / 6, LoadPlan.Bound(2), 9);
    }

    [Fact]
    public void Every_chunk_is_given_to_exactly_one_worker() =>
        Gen.Select(Gen.Double[0, 9].Array[0, 50], Gen.Int[1, 6])
            .Sample(
                (costs, workers) =>
                    Assert.Equal(
                        Enumerable.Range(0, costs.Length),
                        LoadPlan.LongestFirst(costs, workers).Workers.SelectMany(mine => mine).Order()
                    )
            );

    /// <summary>Finished in any order, the ranges that touch become one, and nothing is lost on the way through its text.</summary>
    [Fact]
    public void Finished_ranges_that_touch_are_one() =>
        Gen.Shuffle(Enumerable.Range(0, 9).ToArray())
            .Sample(order =>
            {
                var part = new LoadCheckpoint("mark", new LogPosition(7), 0, []);
                foreach (var i in order)
                {
                    part = part.With(new KeyRange(i == 0 ? default : Key(i), i == 8 ? default : Key(i + 1)), 10);
                    part = LoadCheckpoint.Parse(part.ToText())!;
                    Assert.Equal(part.Done.Count, part.Done.Select(range => range.After).Distinct().Count());
                }

                Assert.Equal(default, Assert.Single(part.Done));
                Assert.Equal((90, new LogPosition(7), "mark"), (part.Rows, part.Since, part.Mark));
            });

    [Theory]
    [InlineData("")]
    [InlineData("1|2|x")]
    [InlineData("1|2|bWFyaw==|AA==")]
    [InlineData("one|2|bWFyaw==|")]
    public void What_is_no_part_of_a_load_is_refused(string text) => Assert.Throws<FormatException>(() => LoadCheckpoint.Parse(text));

    [Theory]
    [InlineData(0, 1)]
    [InlineData(25_000, 1)]
    [InlineData(25_001, 2)]
    [InlineData(2_000_000, 80)]
    public void Chunks_hold_at_most_their_rows(long rows, int chunks) => Assert.Equal(chunks, ChunkCount.For(rows));

    private static int Best(int[] costs, int[] load, int next) =>
        next == costs.Length
            ? load.Max()
            : Enumerable
                .Range(0, load.Length)
                .Min(worker =>
                {
                    load[worker] += costs[next];
                    var best = Best(costs, load, next + 1);
                    load[worker] -= costs[next];
                    return best;
                });
}
