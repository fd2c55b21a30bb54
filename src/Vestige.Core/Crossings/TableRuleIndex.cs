namespace Vestige.Core.Crossings;

/// <summary>
/// Finds the last of many rules that matches a name. Rules of one table each are found by its name, so that thousands of ticked tables
/// cost no more than one; only patterns are tried one after the other. Rules must not change. Safe for several threads.
/// </summary>
internal sealed class TableRuleIndex
{
    private readonly IReadOnlyList<TableRule> rules;
    private readonly Dictionary<string, int> exact = new(StringComparer.Ordinal);
    private readonly List<int> patterns = [];

    public TableRuleIndex(IReadOnlyList<TableRule> rules)
    {
        this.rules = rules;
        for (var i = 0; i < rules.Count; i++)
        {
            var pattern = rules[i].Pattern;
            if (TablePattern.IsPattern(pattern))
            {
                patterns.Add(i);
            }
            else
            {
                exact[pattern] = i;
            }
        }
    }

    public TableRule? DecidingRule(string name)
    {
        var found = exact.GetValueOrDefault(name, -1);
        for (var i = patterns.Count - 1; i >= 0 && patterns[i] > found; i--)
        {
            if (rules[patterns[i]].Matches(name))
            {
                return rules[patterns[i]];
            }
        }

        return found < 0 ? null : rules[found];
    }
}
