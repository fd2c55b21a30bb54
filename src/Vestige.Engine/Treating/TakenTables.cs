using Vestige.Core.Crossings;
using Vestige.Core.Schemas;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Treating;

/// <summary>
/// Which tables of a source a crossing takes. A part of a partitioned table crosses within the whole; it is a table of its own
/// only where the rules leave the whole out.
/// </summary>
internal static class TakenTables
{
    public static IReadOnlyList<TableDescription> Of(TableRules rules, IReadOnlyList<TableDescription> there) =>
        [.. there.Where(table => rules.Takes(table.Schema.Name) && !CrossesWithin(rules, table) && !IsLeftOut(rules, table))];

    /// <summary>
    /// Views and the like that only a pattern takes. They have no rows of their own and were hardly meant, so they are left out.
    /// </summary>
    public static IReadOnlyList<TableName> LeftOut(TableRules rules, IReadOnlyList<TableDescription> there) =>
        [.. there.Where(table => rules.Takes(table.Schema.Name) && IsLeftOut(rules, table)).Select(table => table.Schema.Name)];

    /// <summary>The parts that the rules take and that cross within another table.</summary>
    public static IReadOnlyList<(TableName Part, TableName Whole)> WithinOthers(TableRules rules, IReadOnlyList<TableDescription> there) =>
        [
            .. there
                .Where(table => rules.Takes(table.Schema.Name) && CrossesWithin(rules, table))
                .Select(table => (table.Schema.Name, table.PartOf!.Value)),
        ];

    private static bool IsLeftOut(TableRules rules, TableDescription table) =>
        table.HasNoRows && rules.DecidingRule(table.Schema.Name)?.Take is { } pattern && pattern.Contains('*', StringComparison.Ordinal);

    private static bool CrossesWithin(TableRules rules, TableDescription table) => table.PartOf is { } whole && rules.Takes(whole);
}
