using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Commands;

/// <summary>What a crossing's rules take of its source, and what of that cannot cross or has to be known.</summary>
internal static class TableReadiness
{
    private const int NamedAtMost = 8;

    /// <param name="definition">The crossing.</param>
    /// <param name="there">The source's tables.</param>
    /// <param name="taken">Those that the rules take.</param>
    /// <param name="isFollowing">Whether the crossing has been started before.</param>
    public static IEnumerable<ReadinessCheck> Of(
        CrossingDefinition definition,
        IReadOnlyList<TableDescription> there,
        IReadOnlyList<TableDescription> taken,
        bool isFollowing
    )
    {
        // What was made after the start and cannot cross keeps nothing else from crossing.
        var passing = definition.Tables.Future && isFollowing;
        var crossing = taken.Where(table => Crosses(definition, table)).ToList();
        return
        [
            TablesLine(definition, taken.Count),
            .. taken
                .Where(table => !Crosses(definition, table))
                .Select(LeftOutLine)
                .Select(check => passing ? check with { Ok = true, Remedy = null } : check),
            .. ViewsLine(TakenTables.LeftOut(definition.Tables, there)),
            .. InsertOnlyLine([.. crossing.Where(table => definition.AppliedAs(table.Schema.Name) == ApplyMode.InsertOnly)]),
            .. LeftReferences(crossing),
            .. TakenTables.WithinOthers(definition.Tables, there).GroupBy(pair => pair.Whole, pair => pair.Part).Select(WithinLine),
            .. MissingLines(definition, there),
        ];
    }

    private static ReadinessCheck TablesLine(CrossingDefinition definition, int taken) =>
        new(
            "tables",
            taken > 0,
            taken > 0 ? $"the rules select {taken}" : "the rules match no table of the source",
            "at least one table",
            taken > 0 ? null : $"Change the rules: {string.Join(", ", definition.Tables.Rules.Select(rule => rule.Pattern))}.",
            TimeSpan.Zero
        );

    private static IEnumerable<ReadinessCheck> ViewsLine(IReadOnlyList<TableName> views)
    {
        if (views.Count > 0)
        {
            yield return new ReadinessCheck(
                "views",
                true,
                $"{Figures.Listed([.. views.Select(view => view.ToString())], NamedAtMost)}: "
                    + "left out, since a view has no rows of its own",
                "the tables they read can be replicated",
                null,
                TimeSpan.Zero
            )
            {
                IsWarning = true,
            };
        }
    }

    private static ReadinessCheck LeftOutLine(TableDescription table) =>
        new(
            $"table {table.Schema.Name}",
            false,
            table.Reason!,
            "a table that can be replicated",
            $"Fix it at the source, {(table.InsertsCross ? "take its inserts only, " : "")}or leave {table.Schema.Name} out.",
            TimeSpan.Zero
        );

    public static bool Crosses(CrossingDefinition definition, TableDescription table) =>
        table.CrossesAs(definition.AppliedAs(table.Schema.Name));

    /// <summary>What is chosen by name and yet has to be known: such a copy does not stay equal to its source.</summary>
    private static IEnumerable<ReadinessCheck> InsertOnlyLine(IReadOnlyList<TableDescription> tables)
    {
        if (tables.Count > 0)
        {
            yield return new ReadinessCheck(
                "inserts only",
                true,
                $"{string.Join(", ", tables.Select(table => table.Schema.Name).Order())}: updates, deletes and truncations of "
                    + $"{(tables.Count == 1 ? "it" : "them")} do not reach the target",
                "no action needed",
                null,
                TimeSpan.Zero
            )
            {
                IsWarning = true,
            };
        }
    }

    /// <summary>What is referred to and does not cross; the references are not made then.</summary>
    private static IEnumerable<ReadinessCheck> LeftReferences(List<TableDescription> crossing)
    {
        var names = crossing.Select(table => table.Schema.Name).ToHashSet();
        var left = crossing
            .SelectMany(table =>
                table
                    .Schema.ForeignKeys.Where(key => !names.Contains(key.References))
                    .Select(key => (From: table.Schema.Name, To: key.References))
            )
            .Distinct()
            .ToList();
        if (left.Count > 0)
        {
            yield return new ReadinessCheck(
                "references",
                true,
                $"{Figures.Listed([.. left.Select(pair => $"{pair.From} refers to {pair.To}")], NamedAtMost)}, "
                    + $"which {(left.Count == 1 ? "is" : "are")} not replicated",
                "such foreign keys are not created on the target",
                null,
                TimeSpan.Zero
            )
            {
                IsWarning = true,
            };
        }
    }

    private static ReadinessCheck WithinLine(IGrouping<TableName, TableName> parts) =>
        new(
            $"partitions of {parts.Key}",
            true,
            $"{Figures.Of(parts.Count(), "partition")} {(parts.Count() == 1 ? "is" : "are")} replicated with it: all rows go into one "
                + "plain table, those of later partitions too",
            "to replicate the partitions as tables of their own, leave out the partitioned table",
            null,
            TimeSpan.Zero
        )
        {
            IsWarning = true,
        };

    /// <summary>A rule that names one table exactly, without a star, means that table: its absence is an error.</summary>
    private static IEnumerable<ReadinessCheck> MissingLines(CrossingDefinition definition, IReadOnlyList<TableDescription> tables)
    {
        var there = tables.Select(table => table.Schema.Name.ToString()).ToHashSet();
        return definition
            .Tables.Rules.Where(rule =>
                rule.Take is { } name && !name.Contains('*', StringComparison.Ordinal) && !there.Contains(name) && IsTaken(definition, name)
            )
            .Select(rule => new ReadinessCheck(
                $"table {rule.Take}",
                false,
                "the source has no such table",
                "an existing table",
                "Correct the name, or remove the rule.",
                TimeSpan.Zero
            ));
    }

    private static bool IsTaken(CrossingDefinition definition, string name) =>
        definition.Tables.Rules.Last(rule => rule.Matches(name)).Take is not null;
}
