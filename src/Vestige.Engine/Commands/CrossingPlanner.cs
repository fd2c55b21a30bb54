using Vestige.Core.Crossings;
using Vestige.Core.Loading;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Rewinding;
using Vestige.Engine.Treating;
using Vestige.Engine.Workers;

namespace Vestige.Engine.Commands;

/// <summary>Works out what a start would do, and checks whether it can. Reads only.</summary>
internal sealed class CrossingPlanner(IConnections connections, IMaskKeys keys, Captures captures, LoopCheck loops, TimeProvider clock)
{
    private const int Readers = 2;

    public async Task<CrossingPlan> PlanAsync(
        CrossingDefinition definition,
        (double PerSecond, bool Measured) rate,
        CancellationToken cancellation
    )
    {
        var (source, target) = (connections.Source(definition.Source), connections.Target(definition.Target));
        var checks = new List<ReadinessCheck>();
        if (!await StandApartAsync(definition, source, target, checks, cancellation))
        {
            return CrossingPlan.Refused(rate, checks);
        }

        var there = await source.Catalogue.ReadTablesAsync(cancellation);
        var taken = TakenTables.Of(definition.Tables, there);
        var crossing = taken.Where(table => TableReadiness.Crosses(definition, table)).ToList();
        var progress = await target.Progress.ReadProgressAsync(definition.Name, cancellation);
        checks.AddRange(TableReadiness.Of(definition, there, taken, isFollowing: progress.Position is not null));
        checks.AddRange(await LoopChecksAsync(definition, taken, cancellation));
        var treating = new CrossingTreatment(definition, source, target, keys);
        var treated = new TreatedTables(treating, source.Catalogue.Types, crossing);
        checks.AddRange(treated.Checks);
        checks.AddRange(await source.Log.CheckSourceAsync([.. crossing.Select(table => table.Schema.Name)], cancellation));
        var structure = new PlannedStructure(treating, target, treated.Treatments);
        checks.AddRange(structure.Checks);
        checks.AddRange(await structure.CheckAsync(progress, cancellation));
        checks.AddRange(await FoundChecksAsync(definition, source, target, treated.Treatments, cancellation));
        var rows = definition.Kind is StartKind.Structure or StartKind.Changes ? 0 : crossing.Sum(table => table.EstimatedRows);
        return new CrossingPlan
        {
            Tables = Planned(treating, crossing),
            LeftOut = Planned(treating, taken.Except(crossing)),
            Statements = structure.Statements,
            NotMade = structure.NotMade,
            Rows = rows,
            Estimate = rows == 0 ? TimeSpan.Zero : Estimate(crossing, rate.PerSecond),
            RowsPerSecond = rate.PerSecond,
            Measured = rate.Measured,
            Checks = [.. checks.Select(definition.Judge)],
            Problems = treated.Problems,
            Footprint = source.Log.Footprint,
            Delivery = target.Target.Delivery,
        };
    }

    /// <summary>Whether both systems can be reached and are two.</summary>
    private async Task<bool> StandApartAsync(
        CrossingDefinition definition,
        SourceSystem source,
        TargetSystem target,
        List<ReadinessCheck> checks,
        CancellationToken cancellation
    )
    {
        if (
            !await ReachAsync(checks, $"source {definition.Source}", source.Probe, cancellation)
            || !await ReachAsync(checks, $"target {definition.Target}", target.Probe, cancellation)
        )
        {
            return false;
        }

        if (
            await source.Probe.GetIdentityAsync(cancellation) != await target.Probe.GetIdentityAsync(cancellation)
            || !await source.Probe.IsSameAsync(target.Probe, cancellation)
        )
        {
            return true;
        }

        checks.Add(
            new ReadinessCheck(
                "two databases",
                false,
                $"{definition.Source} and {definition.Target} are the same database",
                "another database as the target",
                "Choose another target.",
                TimeSpan.Zero
            )
        );
        return false;
    }

    private async Task<IReadOnlyList<ReadinessCheck>> LoopChecksAsync(
        CrossingDefinition definition,
        IEnumerable<TableDescription> taken,
        CancellationToken cancellation
    ) => await loops.FindAsync(definition, taken.Select(table => table.Schema.Name), cancellation) is { } loop ? [loop] : [];

    /// <summary>
    /// Where only changes cross, what holds of the tables that were brought by other means; where rows of the past do, whether they can be
    /// determined.
    /// </summary>
    private async Task<IReadOnlyList<ReadinessCheck>> FoundChecksAsync(
        CrossingDefinition definition,
        SourceSystem source,
        TargetSystem target,
        IReadOnlyList<TableTreatment> treatments,
        CancellationToken cancellation
    ) =>
        definition.Kind == StartKind.Changes
            ? await new FoundTables(source, target, captures.Find(definition.Source)?.Spool, clock).CheckAsync(
                definition.Start?.From,
                treatments,
                cancellation
            )
        : definition.Start?.AsOf is { } asOf
            ? await new AsOfReadiness(source, target, captures.Find(definition.Source)?.Spool, clock).CheckAsync(
                asOf,
                treatments,
                cancellation
            )
        : [];

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

    private async Task<bool> ReachAsync(List<ReadinessCheck> checks, string what, IProbe database, CancellationToken cancellation)
    {
        var began = clock.GetTimestamp();
        try
        {
            var steps = await database.TestAsync(cancellation);
            checks.AddRange(steps.Select(step => step with { Step = $"{what}: {step.Step}" }));
            return steps.All(step => step.Ok);
        }
        catch (PortException exception)
        {
            checks.Add(
                new ReadinessCheck(
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

    private static IReadOnlyList<PlannedTable> Planned(CrossingTreatment treating, IEnumerable<TableDescription> tables) =>
        [
            .. tables.Select(table => new PlannedTable(
                table.Schema.Name,
                treating.TargetsOf(table.Schema.Name),
                table.KnownRows,
                table.Bytes,
                table.Reason
            )),
        ];
}
