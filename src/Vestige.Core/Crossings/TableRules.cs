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

    /// <summary>Rules that also take these tables, and decide as before about all others.</summary>
    public TableRules Taking(IEnumerable<TableName> tables) => Deciding(tables, takes: true);

    /// <summary>Rules that do not take these tables, and decide as before about all others.</summary>
    public TableRules Leaving(IEnumerable<TableName> tables) => Deciding(tables, takes: false);

    /// <summary>A rule for one table that says the opposite goes; where that is not enough, one more comes at the end.</summary>
    private TableRules Deciding(IEnumerable<TableName> tables, bool takes)
    {
        var names = tables.Select(table => table.ToString()).ToHashSet(StringComparer.Ordinal);
        var rest = this with
        {
            Rules = [.. Rules.Where(rule => (takes ? rule.Leave : rule.Take) is not { } name || !names.Contains(name))],
        };
        var index = new TableRuleIndex(rest.Rules);
        var undecided = names.Where(name => index.DecidingRule(name)?.Take is not null != takes).Order(StringComparer.Ordinal);
        return rest with
        {
            Rules = [.. rest.Rules, .. undecided.Select(name => takes ? new TableRule(Take: name) : new TableRule(Leave: name))],
        };
    }

    /// <summary>The rule that decided about the table; null when none matches.</summary>
    public TableRule? DecidingRule(TableName table) =>
        Indexes.GetValue(Rules, rules => new TableRuleIndex(rules)).DecidingRule(table.ToString());
}
