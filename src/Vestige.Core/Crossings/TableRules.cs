using System.Runtime.CompilerServices;
using System.Text.Json.Serialization;
using Vestige.Core.Schemas;

namespace Vestige.Core.Crossings;

/// <summary>Which tables cross: rules in order, the last that matches a table decides; a table that none matches stays.</summary>
/// <param name="Rules">The rules.</param>
/// <param name="Future">Tables that are made after the start, and that the rules take, are taken by themselves.</param>
public sealed record TableRules(
    IReadOnlyList<TableRule> Rules,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)] bool Future = false
)
{
    /// <summary>By the list and not in a field: equal records stay equal, and a copy with other rules has an index of its own.</summary>
    private static readonly ConditionalWeakTable<IReadOnlyList<TableRule>, TableRuleIndex> Indexes = [];

    public bool Takes(TableName table) => DecidingRule(table)?.Take is not null;

    /// <summary>The rule that decided about the table; null when none matches.</summary>
    public TableRule? DecidingRule(TableName table) =>
        Indexes.GetValue(Rules, rules => new TableRuleIndex(rules)).DecidingRule(table.ToString());
}
