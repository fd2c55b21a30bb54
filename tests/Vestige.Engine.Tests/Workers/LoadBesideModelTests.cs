using Xunit;

namespace Vestige.Engine.Tests.Workers;

/// <summary>Every order in which the steps of a load beside the stream can happen, in a small model.</summary>
public sealed class LoadBesideModelTests(ITestOutputHelper output)
{
    [Theory]
    [InlineData(int.MaxValue)]
    [InlineData(4)]
    [InlineData(5)]
    public void In_every_order_of_steps_each_table_is_as_the_source_had_it_where_it_stands(int stopAt) =>
        Assert.Null(Explore(new LoadBesideModel { StopAt = stopAt }));

    /// <summary>Each rule is needed: without it an order is found that goes wrong.</summary>
    [Theory]
    [InlineData("waiting for what is logged to be visible")]
    [InlineData("catching up")]
    [InlineData("stopping at the stream")]
    [InlineData("keeping the log")]
    [InlineData("its own position in quarantine")]
    public void Without_one_of_the_rules_an_order_goes_wrong(string rule)
    {
        var wrong = Explore(new LoadBesideModel { Without = rule, StopAt = 5 }) ?? Explore(new LoadBesideModel { Without = rule });
        output.WriteLine($"without {rule}: {wrong}");
        Assert.NotNull(wrong);
    }

    /// <summary>The first thing that is wrong in any state that can be reached; null when nothing is.</summary>
    private string? Explore(LoadBesideModel begin)
    {
        var (seen, waiting) = (new HashSet<string> { begin.Key }, new Queue<LoadBesideModel>([begin]));
        while (waiting.TryDequeue(out var state))
        {
            var next = state.Steps().ToList();
            if ((state.Wrong() ?? (next.Count == 0 ? state.WrongAtRest() : null)) is { } wrong)
            {
                return wrong;
            }

            foreach (var step in next.Where(step => seen.Add(step.Key)))
            {
                waiting.Enqueue(step);
            }
        }

        output.WriteLine($"{seen.Count} states");
        return null;
    }
}
