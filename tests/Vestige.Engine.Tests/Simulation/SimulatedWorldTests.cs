using Xunit;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// The promises under faults at every read and write, process death, a disk that forgets, and workers that write after
/// their successors. VESTIGE_SEEDS sets how many seeds are run, VESTIGE_SEED one to run alone.
/// </summary>
public class SimulatedWorldTests(ITestOutputHelper output)
{
    private const int SeedsToCatch = 300;

    [Fact]
    public void Whatever_fails_the_target_ends_as_the_source_and_each_change_took_effect_once()
    {
        var one = Environment.GetEnvironmentVariable("VESTIGE_SEED");
        var many = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_SEEDS") ?? "1000");
        var seeds = one is null ? Enumerable.Range(1, many) : [int.Parse(one)];
        var faults = new SortedDictionary<string, int>(StringComparer.Ordinal);
        var prefixes = 0;
        foreach (var seed in seeds)
        {
            var world = new SimWorld(seed);
            world.Run();
            prefixes += world.PrefixesChecked;
            foreach (var (fault, times) in world.Faults)
            {
                faults[fault] = faults.GetValueOrDefault(fault) + times;
            }
        }

        output.WriteLine($"{(one is null ? many : 1)} seeds, {prefixes} committed states compared with the source's history");
        output.WriteLine(string.Join(Environment.NewLine, faults.Select(pair => $"{pair.Value,8} {pair.Key}")));
        Assert.True(prefixes > 0 || one is not null);
    }

    [Fact]
    public void Acknowledging_before_the_spool_is_durable_is_caught() =>
        AssertCaught(seed => new SimWorld(seed, disk: new SimDisk { SyncLies = true }));

    [Fact]
    public void Committing_the_position_apart_from_the_rows_is_caught() =>
        AssertCaught(seed => new SimWorld(seed, target: new SimTargetState { CommitsApart = true }));

    [Fact]
    public void A_worker_that_is_not_fenced_is_caught() =>
        AssertCaught(seed => new SimWorld(seed, target: new SimTargetState { NotFenced = true }));

    [Fact]
    public void A_load_that_goes_on_without_what_changed_meanwhile_is_caught() =>
        AssertCaught(seed => new SimWorld(seed, source: new SimSourceState { HidesChanges = true }));

    [Fact]
    public void A_quarantine_that_loses_what_waits_behind_a_refused_change_is_caught() =>
        AssertCaught(seed => new SimWorld(seed, store: new SimStoreState { ForgetsBehind = true }));

    [Fact]
    public void A_view_that_does_not_show_what_it_says_is_caught() =>
        AssertCaught(seed => new SimWorld(seed, source: new SimSourceState { ViewsLag = true }));

    [Fact]
    public void The_same_seed_tells_the_same_story()
    {
        for (var seed = 1; seed <= 20; seed++)
        {
            SimWorld first = new(seed), second = new(seed);
            first.Run();
            second.Run();
            Assert.Equal(first.Story, second.Story);
        }
    }

    /// <summary>The world must be able to fail: with a promise broken on purpose some seed says so.</summary>
    private void AssertCaught(Func<int, SimWorld> broken)
    {
        for (var seed = 1; seed <= SeedsToCatch; seed++)
        {
            try
            {
                broken(seed).Run();
            }
            catch (SimFailure failure)
            {
                output.WriteLine($"Caught after {seed} seeds: {failure.Message}");
                return;
            }
        }

        Assert.Fail($"A broken promise went unnoticed through {SeedsToCatch} seeds.");
    }
}
