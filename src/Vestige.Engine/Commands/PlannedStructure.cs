using Vestige.Core.Crossings;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;
using Vestige.Engine.Treating;

namespace Vestige.Engine.Commands;

/// <summary>
/// What the tables of a crossing are to be on its target, as far as that target makes tables, and what keeps it from that.
/// </summary>
internal sealed class PlannedStructure
{
    private readonly CrossingTreatment treating;
    private readonly TargetSystem target;
    private readonly IReadOnlyList<TableTreatment> treatments;
    private readonly IReadOnlyList<TableSchema> tables;

    public PlannedStructure(CrossingTreatment treating, TargetSystem target, IReadOnlyList<TableTreatment> treatments)
    {
        (this.treating, this.target, this.treatments) = (treating, target, treatments);
        if (target.Find<ITableTarget>() is not { } made)
        {
            tables =
            [
                .. treatments.SelectMany(treatment => treatment.Tables).Select(table => table.Schema).DistinctBy(table => table.Name),
            ];
            Checks = [.. ShapeReadiness.Of(treating.Definition, target, treatments)];
            return;
        }

        var structure = made.StructureOf(treatments);
        tables = [.. structure.Tables.DistinctBy(table => table.Name)];
        NotMade = structure.NotMade;
        Statements = treating.Definition.Kind == StartKind.Changes ? [] : made.StructureFor(tables);
        Checks = [.. OwnStatements(treating.Definition, made, structure.Tables)];
    }

    /// <summary>What would be run on the target first.</summary>
    public IReadOnlyList<StructureStatement> Statements { get; } = [];

    /// <summary>What of the source's structure is not made, each with the reason.</summary>
    public IReadOnlyList<string> NotMade { get; } = [];

    /// <summary>What can be told without asking the target.</summary>
    public IReadOnlyList<ReadinessCheck> Checks { get; }

    /// <summary>What the target says.</summary>
    public Task<IReadOnlyList<ReadinessCheck>> CheckAsync(TargetProgress progress, CancellationToken cancellation) =>
        target.Target.CheckTargetAsync(tables, treating.ExistingOf(treatments), treating.OwnTables(progress), cancellation);

    /// <summary>Statements of a person's own stand instead of those that would be run.</summary>
    private static IEnumerable<ReadinessCheck> OwnStatements(
        CrossingDefinition definition,
        ITableTarget target,
        IReadOnlyList<TableSchema> tables
    )
    {
        foreach (var own in definition.Structure ?? [])
        {
            var form = tables.FirstOrDefault(table => table.Name.ToString() == own.Table);
            var wrong = form is null
                ? "it creates no replicated table"
                : own.DifferenceTo(
                    target.StructureFor([form with { Statement = null }]).First(statement => statement.Makes == form.Name).Text
                );
            yield return new ReadinessCheck(
                $"statement for {own.Table}",
                wrong is null,
                wrong ?? "the definition's own; what it makes is compared with what the rows need before any of them is written",
                "one statement that makes the table",
                wrong is null ? null : "Correct it in the definition, or remove it.",
                TimeSpan.Zero
            );
        }
    }
}
