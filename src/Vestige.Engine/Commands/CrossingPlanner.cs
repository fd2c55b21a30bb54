using Vestige.Core.Crossings;
using Vestige.Core.Loading;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Works out what a start would do, and checks whether it can. Reads only.</summary>
internal sealed class CrossingPlanner(IConnections connections, IMaskKeys keys, Captures captures, LoopCheck loops, TimeProvider clock)
{
    private const int Readers = 2;
    private const int NamedAtMost = 8;

    public async Task<CrossingPlan> PlanAsync(
        CrossingDefinition definition,
        (double PerSecond, bool Measured) rate,
        CancellationToken cancellation
    )
    {
        var source = connections.Source(definition.Source);
        var target = connections.Target(definition.Target);
        var lines = new List<ReadinessLine>();
        if (
            !await ReachAsync(lines, $"source {definition.Source}", source.Probe, cancellation)
            || !await ReachAsync(lines, $"target {definition.Target}", target.Probe, cancellation)
        )
        {
            return CrossingPlan.Refused(rate, lines);
        }

        if (
            await source.Probe.GetIdentityAsync(cancellation) == await target.Probe.GetIdentityAsync(cancellation)
            && await source.Probe.IsSameAsync(target.Probe, cancellation)
        )
        {
            lines.Add(
                new ReadinessLine(
                    "two databases",
                    false,
                    $"{definition.Source} and {definition.Target} are the same database",
                    "another database as the target",
                    "Choose another target.",
                    TimeSpan.Zero
                )
            );
            return CrossingPlan.Refused(rate, lines);
        }

        var there = await source.Catalogue.ReadTablesAsync(cancellation);
        var taken = TakenTables.Of(definition.Tables, there);
        var within = TakenTables.WithinOthers(definition.Tables, there);
        var crossing = taken.Where(table => Crosses(definition, table)).ToList();
        var progress = await target.Tables.ReadProgressAsync(definition.Name, cancellation);
        lines.Add(TablesLine(definition, taken.Count));
        if (await loops.FindAsync(definition, taken.Select(table => table.Schema.Name), cancellation) is { } loop)
        {
            lines.Add(loop);
        }

        // What was made after the start and cannot cross keeps nothing else from crossing.
        var passing = definition.Tables.Future && progress.Position is not null;
        lines.AddRange(
            taken
                .Where(table => !Crosses(definition, table))
                .Select(LeftOutLine)
                .Select(line => passing ? line with { Ok = true, Remedy = null } : line)
        );
        lines.AddRange(ViewsLine(TakenTables.LeftOut(definition.Tables, there)));
        lines.AddRange(InsertOnlyLine([.. crossing.Where(table => definition.AppliedAs(table.Schema.Name) == ApplyMode.InsertOnly)]));
        lines.AddRange(LeftReferences(crossing));
        lines.AddRange(within.GroupBy(pair => pair.Whole, pair => pair.Part).Select(WithinLine));
        lines.AddRange(MissingLines(definition, there));
        var treating = new CrossingTreatment(definition, source, target, keys);
        var treated = new TreatedTables(treating, source.Catalogue.Types, crossing);
        lines.AddRange(treated.Lines);
        lines.AddRange(await source.Log.CheckSourceAsync([.. crossing.Select(table => table.Schema.Name)], cancellation));
        var structure = target.Tables.StructureOf(treated.Treatments);
        lines.AddRange(OwnStatements(definition, target, structure));
        lines.AddRange(
            await target.Tables.CheckTargetAsync(
                [.. structure.Tables.DistinctBy(table => table.Name)],
                treating.ExistingOf(treated.Treatments),
                treating.OwnTables(progress),
                cancellation
            )
        );
        if (definition.Kind == StartKind.Changes)
        {
            lines.AddRange(
                await new FoundTables(source, target, captures.Find(definition.Source)?.Spool, clock).CheckAsync(
                    definition.Start?.From,
                    treated.Treatments,
                    cancellation
                )
            );
        }

        var rows = definition.Kind is StartKind.Structure or StartKind.Changes ? 0 : crossing.Sum(table => table.EstimatedRows);
        return new CrossingPlan(
            [.. crossing.Select(table => Planned(treating, table))],
            [.. taken.Where(table => !Crosses(definition, table)).Select(table => Planned(treating, table))],
            definition.Kind == StartKind.Changes ? [] : target.Tables.StructureFor([.. structure.Tables.DistinctBy(table => table.Name)]),
            structure.NotMade,
            rows,
            rows == 0 ? TimeSpan.Zero : Estimate(crossing, rate.PerSecond),
            rate.PerSecond,
            rate.Measured,
            [.. lines.Select(definition.Judged)],
            treated.Problems
        )
        {
            Footprint = source.Log.Footprint,
        };
    }

    /// <summary>Statements of a person's own stand in the place of those that would be run.</summary>
    private static IEnumerable<ReadinessLine> OwnStatements(CrossingDefinition definition, TargetSystem target, TargetStructure structure)
    {
        foreach (var own in definition.Structure ?? [])
        {
            var form = structure.Tables.FirstOrDefault(table => table.Name.ToString() == own.Table);
            var wrong = form is null
                ? "it makes no table that crosses"
                : own.DifferenceTo(
                    target.Tables.StructureFor([form with { Statement = null }]).First(statement => statement.Makes == form.Name).Text
                );
            yield return new ReadinessLine(
                $"statement for {own.Table}",
                wrong is null,
                wrong ?? "the definition's own; what it makes is compared with what the rows need before any of them is written",
                "one statement that makes the table",
                wrong is null ? null : "Correct it in the definition, or remove it.",
                TimeSpan.Zero
            );
        }
    }

    /// <summary>One writer takes all rows, so the finish is the sum; cutting the reads only keeps it busy.</summary>
    private static TimeSpan Estimate(List<TableDescription> tables, double rowsPerSecond)
    {
        var costs = tables
            .SelectMany(table =>
                Enumerable.Repeat((double)table.EstimatedRows / ChunkCount.For(table.EstimatedRows), ChunkCount.For(table.EstimatedRows))
            )
            .ToList();
        var written = tables.Sum(table => table.EstimatedRows);
        return TimeSpan.FromSeconds(Math.Max(LoadPlan.LongestFirst(costs, Readers).Makespan, written) / rowsPerSecond);
    }

    private async Task<bool> ReachAsync(List<ReadinessLine> lines, string what, IProbe database, CancellationToken cancellation)
    {
        var began = clock.GetTimestamp();
        try
        {
            var steps = await database.TestAsync(cancellation);
            lines.AddRange(steps.Select(step => step with { Step = $"{what}: {step.Step}" }));
            return steps.All(step => step.Ok);
        }
        catch (PortException exception)
        {
            lines.Add(
                new ReadinessLine(
                    $"{what}: reach",
                    false,
                    exception.Message,
                    "an answer",
                    exception.Remedy ?? "Remedy the connection.",
                    clock.GetElapsedTime(began)
                )
            );
            return false;
        }
    }

    private static PlannedTable Planned(CrossingTreatment treating, TableDescription table) =>
        new(table.Schema.Name, treating.TargetsOf(table.Schema.Name), table.EstimatedRows, table.Bytes, table.Reason);

    private static ReadinessLine TablesLine(CrossingDefinition definition, int taken) =>
        new(
            "tables",
            taken > 0,
            taken > 0 ? $"the rules take {taken}" : "the rules take no table of the source",
            "at least one table",
            taken > 0 ? null : $"Change the rules: {string.Join(", ", definition.Tables.Rules.Select(rule => rule.Pattern))}.",
            TimeSpan.Zero
        );

    private static IEnumerable<ReadinessLine> ViewsLine(IReadOnlyList<TableName> views)
    {
        if (views.Count > 0)
        {
            yield return new ReadinessLine(
                "views",
                true,
                $"{Figures.Listed([.. views.Select(view => view.ToString())], NamedAtMost)}: "
                    + "left out, since a view has no rows of its own",
                "know it; the tables they read can cross",
                null,
                TimeSpan.Zero
            );
        }
    }

    private static ReadinessLine LeftOutLine(TableDescription table) =>
        new(
            $"table {table.Schema.Name}",
            false,
            table.Reason!,
            "a table that can cross",
            $"Fix it at the source, {(table.InsertsCross ? "take its inserts only, " : "")}or leave {table.Schema.Name} out.",
            TimeSpan.Zero
        );

    private static bool Crosses(CrossingDefinition definition, TableDescription table) =>
        table.CrossesAs(definition.AppliedAs(table.Schema.Name));

    /// <summary>What is chosen by name and yet has to be known: such a copy does not stay equal to its source.</summary>
    private static IEnumerable<ReadinessLine> InsertOnlyLine(IReadOnlyList<TableDescription> tables)
    {
        if (tables.Count > 0)
        {
            yield return new ReadinessLine(
                "inserts only",
                true,
                $"{string.Join(", ", tables.Select(table => table.Schema.Name).Order())}: updates, deletes and truncations of "
                    + $"{(tables.Count == 1 ? "it" : "them")} do not reach the target",
                "know it",
                null,
                TimeSpan.Zero
            );
        }
    }

    /// <summary>What is referred to and does not cross; the references are not made then.</summary>
    private static IEnumerable<ReadinessLine> LeftReferences(List<TableDescription> crossing)
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
            yield return new ReadinessLine(
                "references",
                true,
                $"{Figures.Listed([.. left.Select(pair => $"{pair.From} refers to {pair.To}")], NamedAtMost)}, "
                    + $"which {(left.Count == 1 ? "does" : "do")} not cross",
                "know it: such references are not made on the target",
                null,
                TimeSpan.Zero
            );
        }
    }

    private static ReadinessLine WithinLine(IGrouping<TableName, TableName> parts) =>
        new(
            $"parts of {parts.Key}",
            true,
            $"{Figures.Of(parts.Count(), "part")} {(parts.Count() == 1 ? "crosses" : "cross")} within it: its rows go into one plain "
                + "table, those of parts made later as well",
            "know it; to cross as tables of their own, leave out the whole",
            null,
            TimeSpan.Zero
        );

    /// <summary>A rule that names one table exactly, without a star, means that table: its absence is an error.</summary>
    private static IEnumerable<ReadinessLine> MissingLines(CrossingDefinition definition, IReadOnlyList<TableDescription> tables)
    {
        var there = tables.Select(table => table.Schema.Name.ToString()).ToHashSet();
        return definition
            .Tables.Rules.Where(rule =>
                rule.Take is { } name && !name.Contains('*', StringComparison.Ordinal) && !there.Contains(name) && IsTaken(definition, name)
            )
            .Select(rule => new ReadinessLine(
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
