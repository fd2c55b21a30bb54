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
    public bool Takes(TableName table) => DecidingRule(table)?.Take is not null;

    /// <summary>The rule that decided about the table; null when none matches.</summary>
    public TableRule? DecidingRule(TableName table)
    {
        var name = table.ToString();
        for (var i = Rules.Count - 1; i >= 0; i--)
        {
            if (Rules[i].Matches(name))
            {
                return Rules[i];
            }
        }

        return null;
    }
}
