using Vestige.Core.SchemaVersions;
using Xunit;

namespace Vestige.Engine.Tests.Simulation;

/// <summary>
/// The promises under faults at every read and write, process death, a disk that forgets, and workers that write after
/// their successors. VESTIGE_SEEDS sets how many seeds are run, VESTIGE_SEED one to run alone.
/// </summary>
public class SimulatedWorldTests(ITestOutputHelper output)
{
    private const int SeedsToCatch = 1500;

    [Fact]
    public void Whatever_fails_the_target_ends_as_the_source_and_each_change_took_effect_once()
    {
        var one = Environment.GetEnvironmentVariable("VESTIGE_SEED");
        var many = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_SEEDS") ?? "300");
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
        Assert.All(
            [
                "table follows beside a load",
                "table catches up",
                "table replaced in place",
                "table removed",
                "table added",
                "changes applied again",
            ],
            happened => Assert.True(faults.ContainsKey(happened) || one is not null, $"no {happened}")
        );
    }

    /// <summary>Tables get other rows and another identity, and the log does not show it.</summary>
    [Fact]
    public void A_table_that_was_changed_beside_the_log_is_held_or_right()
    {
        var one = Environment.GetEnvironmentVariable("VESTIGE_SEED");
        var many = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_SEEDS") ?? "300") / 2;
        var (held, restructured, agreed) = (0, 0, 0);
        SchemaChangeKind[] kinds = [SchemaChangeKind.ColumnAdded, SchemaChangeKind.ColumnDropped, SchemaChangeKind.ColumnRenamed];
        var carried = kinds.ToDictionary(kind => kind, _ => 0);
        foreach (var seed in one is null ? Enumerable.Range(1, many) : [int.Parse(one)])
        {
            var world = new SimWorld(seed, source: new SimSourceState { Restructuring = new SimRestructuring(happens: true) });
            world.Run();
            held += world.Faults.GetValueOrDefault("table held");
            agreed += world.Faults.GetValueOrDefault("table agreed to");
            restructured += world.Faults.GetValueOrDefault("table restructured");
            foreach (var kind in kinds)
            {
                carried[kind] += world.Faults.GetValueOrDefault($"carried {kind.Word()}");
            }
        }

        output.WriteLine(
            $"{restructured} times a table was changed, "
                + $"{string.Join(", ", carried.Select(pair => $"{pair.Value} {pair.Key.Word()}"))} carried, "
                + $"{agreed} times agreed to, {held} tables held at the end"
        );
        Assert.True((held > 0 && agreed > 0 && carried.Values.All(count => count > 0)) || one is not null);
    }

    [Fact]
    public void A_list_of_changes_has_them_in_order_and_their_doubles_can_be_told() =>
        RunMany(seed => new SimWorld(seed, sink: new SimListSink()));

    [Fact]
    public void Tables_without_transactions_are_each_as_the_source_at_their_own_position() =>
        RunMany(seed => new SimWorld(seed, sink: new SimTablesSink()));

    [Fact]
    public void A_source_whose_servers_change_is_followed_by_what_its_tokens_say() =>
        RunMany(seed => new SimWorld(seed, files: new SimFileSource()));

    [Fact]
    public void A_server_that_goes_on_too_late_is_caught() =>
        AssertCaught(seed => new SimWorld(seed, files: new SimFileSource { Leaps = true }));

    [Fact]
    public void A_list_whose_progress_is_written_before_its_changes_is_caught() =>
        AssertCaught(seed => new SimWorld(seed, sink: new SimListSink { SavesEarly = true }));

    [Fact]
    public void Tables_whose_progress_is_written_before_their_rows_are_caught() =>
        AssertCaught(seed => new SimWorld(seed, sink: new SimTablesSink { SavesEarly = true }));

    private void RunMany(Func<int, SimWorld> make)
    {
        var one = Environment.GetEnvironmentVariable("VESTIGE_SEED");
        var many = int.Parse(Environment.GetEnvironmentVariable("VESTIGE_SEEDS") ?? "300") / 8;
        var faults = new SortedDictionary<string, int>(StringComparer.Ordinal);
        var states = 0;
        foreach (var seed in one is null ? Enumerable.Range(1, many) : [int.Parse(one)])
        {
            var world = make(seed);
            world.Run();
            states += world.PrefixesChecked;
            foreach (var (fault, times) in world.Faults)
            {
                faults[fault] = faults.GetValueOrDefault(fault) + times;
            }
        }

        output.WriteLine($"{states} states compared with the source's history");
        output.WriteLine(string.Join(Environment.NewLine, faults.Select(pair => $"{pair.Value,8} {pair.Key}")));
        Assert.True(states > 0);
    }

    [Fact]
    public void Nothing_is_applied_to_a_target_that_stands_in_another_log() =>
        Assert.StartsWith("The target's position is in the log another/1", new SimWorld(1).FaultInAnotherLog(), StringComparison.Ordinal);

    /// <summary>Pauses double up to 30 s: some 8 tries come in the first half minute, and at most 4 in each minute after it.</summary>
    [Theory]
    [InlineData("target.create")]
    [InlineData("target.load")]
    [InlineData("target.keys")]
    public void What_fails_again_and_again_is_tried_more_and_more_rarely(string call)
    {
        var tries = new SimWorld(3).TriesWhileFailing(call, TimeSpan.FromMinutes(20));
        output.WriteLine($"{tries} tries");
        Assert.True(tries is > 8 and <= 12 + (4 * 20), $"{tries} tries of {call} in 20 minutes");
    }

    [Fact]
    public void A_table_changed_beside_the_log_that_nobody_looks_at_is_caught() =>
        AssertCaught(seed => new SimWorld(
            seed,
            source: new SimSourceState { Restructuring = new SimRestructuring(happens: true) { IsNotSeen = true } }
        ));

    [Fact]
    public void A_change_beside_the_log_that_is_reported_after_the_rows_is_caught() =>
        AssertCaught(seed => new SimWorld(
            seed,
            source: new SimSourceState { Restructuring = new SimRestructuring(happens: true) { IsSeenLate = true } }
        ));

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
    public void A_history_of_schemas_that_forgets_is_caught() =>
        AssertCaught(seed => new SimWorld(
            seed,
            source: new SimSourceState { Restructuring = new SimRestructuring(happens: true) },
            store: new SimStoreState { ForgetsVersions = true }
        ));

    [Fact]
    public void A_view_that_does_not_show_what_it_says_is_caught() =>
        AssertCaught(seed => new SimWorld(seed, source: new SimSourceState { ViewsLag = true }));

    [Fact]
    public void A_join_of_a_side_that_was_still_written_to_is_caught() =>
        AssertCaught(seed => new SimWorld(seed, source: new SimSourceState { JoinsLie = true }));

    [Fact]
    public void The_same_seed_tells_the_same_story()
    {
        for (var seed = 1; seed <= 40; seed++)
        {
            SimWorld first = new(seed),
                second = new(seed);
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
