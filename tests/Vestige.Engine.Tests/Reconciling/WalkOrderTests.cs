using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Engine.Reconciling;
using Xunit;

namespace Vestige.Engine.Tests.Reconciling;

/// <summary>
/// In which order tables are compared when that is done all the time: each within its period, what changed or was repaired before others.
/// </summary>
public class WalkOrderTests
{
    private const double Period = 3600;
    private static readonly DateTimeOffset Now = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    [Fact]
    public void What_was_repaired_comes_first_then_what_was_never_proved_then_what_changed()
    {
        List<WalkedTable> tables =
        [
            Proved("quiet", minutes: 110),
            Proved("changed", minutes: 70, changed: 5),
            new(Name("new"), null, null, null),
            Proved("changed-before-its-proof", minutes: 100, changed: 105),
            new(Name("repaired"), new Verdict(Name("repaired"), null, Repaired: true), null, null),
            Proved("changed-longer-proved", minutes: 90, changed: 1),
            Proved("not-due", minutes: 50, changed: 1),
        ];
        Assert.Equal(["repaired", "new", "changed-longer-proved", "changed", "quiet", "changed-before-its-proof"], Order(tables));
    }

    [Fact]
    public void A_quiet_table_that_waited_for_two_periods_waits_no_longer()
    {
        List<WalkedTable> tables =
        [
            Proved("changed", minutes: 70, changed: 1),
            Proved("quiet", minutes: 130),
            Proved("quiet-longer", minutes: 140),
            Proved("changed-long-ago-proved", minutes: 135, changed: 1),
        ];
        Assert.Equal(["quiet-longer", "changed-long-ago-proved", "quiet", "changed"], Order(tables));
    }

    [Fact]
    public void Rows_that_differ_are_looked_for_again_after_a_period_and_what_was_tried_just_now_is_not()
    {
        var found = new Verdict(Name("t"), null, Differences: 3, FoundAt: Now.AddMinutes(-30));
        Assert.Empty(Order([new(Name("t"), found, null, null)]));
        Assert.Equal(["t"], Order([new(Name("t"), found with { FoundAt = Now.AddMinutes(-61) }, null, null)]));
        Assert.Equal(["t"], Order([new(Name("t"), found with { Repaired = true }, null, null)]));
        Assert.Empty(Order([new(Name("t"), found with { Repaired = true }, Now.AddSeconds(-59), null)]));
    }

    [Theory]
    [InlineData(1, 8)]
    [InlineData(2, 5)]
    [InlineData(3, 20)]
    public void However_little_is_compared_every_table_has_its_turn(int seed, int count)
    {
        // Half of the tables change all the time, and a comparison takes a third of the time that they would need to keep the period.
        var (random, now) = (new Random(seed), Now);
        var proved = Enumerable.Range(0, count).ToDictionary(i => $"t{i}", _ => Now.AddSeconds(-random.Next(1, 7200)));
        var turns = proved.Keys.ToDictionary(name => name, _ => 0);
        for (var step = 0; step < 20 * count; step++)
        {
            now += TimeSpan.FromSeconds(3 * Period / count);
            var next = WalkOrder.Next(
                proved.Select(
                    (one, i) =>
                        new WalkedTable(
                            Name(one.Key),
                            new Verdict(Name(one.Key), new Proof(new LogPosition(1), one.Value, 1)),
                            null,
                            i % 2 == 0 ? now : null
                        )
                ),
                new ReconcileRule(Period),
                now
            );
            if (next is { } table)
            {
                proved[table.Name] = now;
                turns[table.Name]++;
            }
        }

        Assert.All(turns, turn => Assert.True(turn.Value > 0, $"{turn.Key} never had its turn, seed {seed}"));
    }

    private static List<string> Order(List<WalkedTable> tables)
    {
        var (left, order) = (tables.ToList(), new List<string>());
        while (WalkOrder.Next(left, new ReconcileRule(Period), Now) is { } next)
        {
            order.Add(next.Name);
            left.RemoveAll(table => table.Table == next);
        }

        return order;
    }

    private static TableName Name(string name) => new("s", name);

    private static WalkedTable Proved(string name, double minutes, double? changed = null) =>
        new(
            Name(name),
            new Verdict(Name(name), new Proof(new LogPosition(1), Now.AddMinutes(-minutes), 1)),
            null,
            changed is { } ago ? Now.AddMinutes(-ago) : null
        );
}
