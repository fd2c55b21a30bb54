using Vestige.Core.Crossings;

namespace Vestige.Web.Definitions;

/// <summary>Table rules as a person types them: one a line, <c>circulation.*</c> to take, <c>not *_tmp</c> to leave.</summary>
public static class RulesText
{
    private const string Not = "not ";

    public static IReadOnlyList<TableRule> Read(string? text) =>
        [.. (text ?? "").Split('\n', StringSplitOptions.TrimEntries | StringSplitOptions.RemoveEmptyEntries).Select(RuleOf)];

    public static string Write(IEnumerable<TableRule> rules) => string.Join('\n', rules.Select(Line));

    /// <summary>One rule as its line.</summary>
    public static string Line(TableRule rule)
    {
        ArgumentNullException.ThrowIfNull(rule);
        return rule.Take ?? Not + rule.Leave;
    }

    private static TableRule RuleOf(string line) =>
        line.StartsWith(Not, StringComparison.OrdinalIgnoreCase)
            ? new TableRule(Leave: line[Not.Length..].Trim())
            : new TableRule(Take: line);
}
