using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;
using Xunit;

namespace Vestige.Engine.Tests.Ports;

public sealed class TargetProgressTests(ITestOutputHelper output)
{
    /// <summary>As a store may list them: in another order than ours.</summary>
    [Fact]
    public void Whatever_is_updated_each_table_is_there_once_as_it_was_last_and_in_the_order_of_the_names()
    {
        var seed = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_SEED") ?? $"{Random.Shared.Next(100_000)}");
        output.WriteLine($"seed {seed}");
        var random = new Random(seed);
        for (var round = 0; round < 200; round++)
        {
            var expected = Some(random, random.Next(6)).DistinctBy(table => table.Table).ToDictionary(table => table.Table);
            var progress = new TargetProgress(null, null, [.. expected.Values.OrderBy(_ => random.Next())]);
            for (var update = 0; update < 8; update++)
            {
                List<TableProgress> changed = [.. Some(random, random.Next(4)).DistinctBy(table => table.Table)];
                changed.ForEach(table => expected[table.Table] = table);
                progress = progress.With(new ProgressUpdate(null, changed));
                progress = random.Next(3) == 0 ? progress.Match([]) : progress;
                if (changed.Count > 0)
                {
                    Assert.Equal(expected.Values.OrderBy(table => table.Table), progress.Tables);
                }
            }
        }
    }

    private static IEnumerable<TableProgress> Some(Random random, int count) =>
        Enumerable
            .Range(0, count)
            .Select(_ => new TableProgress(
                new TableName(random.Next(2) == 0 ? "a" : "B", $"t{random.Next(12)}"),
                Loaded: random.Next(2) == 0,
                new LogPosition((ulong)random.Next(1000))
            ));
}
