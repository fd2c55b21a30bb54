using Vestige.Core.Schemas;

namespace Vestige.Core.Crossings;

/// <summary>Which tables cross: rules in order, the last that matches a table decides; a table that none matches stays.</summary>
public sealed record TableRules(IReadOnlyList<TableRule> Rules)
{
    public bool Takes(TableName table) => DecidingRule(table)?.Take is not null;

    /// <summary>The rule that decided about the table; null when none matches.</summary>
    public TableRule? DecidingRule(TableName table)
    {
        var name = table.ToString();
        return Rules.LastOrDefault(rule => rule.Matches(name));
    }
}
