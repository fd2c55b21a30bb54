using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Xunit;

namespace Vestige.Core.Tests;

/// <summary>Rules that tables are added to or removed from decide as asked about these, and as before about all others.</summary>
public sealed class TableRulesTests
{
    private static readonly TableName[] Tables = [.. from s in "ab" from t in "xyz" select new TableName($"{s}", $"{t}")];

    [Fact]
    public void Any_rules_decide_as_asked_about_some_tables_and_as_before_about_the_others()
    {
        var seed = Environment.TickCount;
        var random = new Random(seed);
        for (var i = 0; i < 3000; i++)
        {
            var rules = new TableRules([.. Enumerable.Range(0, random.Next(5)).Select(_ => Any(random))], Future: random.Next(2) == 0);
            var some = Tables.Where(_ => random.Next(3) == 0).ToHashSet();
            var takes = random.Next(2) == 0;
            var after = takes ? rules.Taking(some) : rules.Leaving(some);
            foreach (var table in Tables)
            {
                Assert.True(
                    after.Takes(table) == (some.Contains(table) ? takes : rules.Takes(table)),
                    $"seed {seed}, {i}: {table} {(takes ? "with" : "without")} {string.Join(",", some)}: "
                        + $"{string.Join("; ", rules.Rules)} -> {string.Join("; ", after.Rules)}"
                );
            }

            Assert.Equal(rules.Future, after.Future);
        }
    }

    [Fact]
    public void A_rule_for_the_table_itself_goes_before_another_is_added()
    {
        var x = new TableName("a", "x");
        var one = new TableRules([new TableRule(Take: "a.x"), new TableRule(Take: "a.y")]);
        Assert.Equal([new TableRule(Take: "a.y")], one.Leaving([x]).Rules);
        Assert.Equal([new TableRule(Take: "a.y"), new TableRule(Take: "a.x")], one.Leaving([x]).Taking([x]).Rules);
        var all = new TableRules([new TableRule(Take: "a.*")]);
        Assert.Equal([new TableRule(Take: "a.*"), new TableRule(Leave: "a.x")], all.Leaving([x]).Rules);
        Assert.Equal(all.Rules, all.Leaving([x]).Taking([x]).Rules);
    }

    private static TableRule Any(Random random)
    {
        var pattern = random.Next(3) switch
        {
            0 => "*",
            1 => $"{Tables[random.Next(Tables.Length)].Schema}.*",
            _ => $"{Tables[random.Next(Tables.Length)]}",
        };
        return random.Next(2) == 0 ? new TableRule(Take: pattern) : new TableRule(Leave: pattern);
    }
}
