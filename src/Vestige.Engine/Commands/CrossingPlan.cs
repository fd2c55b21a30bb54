using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Commands;

/// <summary>What a start would do, and whether it can.</summary>
/// <param name="Tables">The tables that would cross.</param>
/// <param name="LeftOut">Tables that the rules take and that cannot cross, with the reason.</param>
/// <param name="Statements">What would be run on the target first.</param>
/// <param name="NotMade">What of the source's structure is not made on the target, each with the reason.</param>
/// <param name="Rows">Rows to load, as estimated.</param>
/// <param name="Estimate">How long the load would take.</param>
/// <param name="RowsPerSecond">The rate the estimate rests on.</param>
/// <param name="Measured">Whether that rate was measured by a load to this target.</param>
/// <param name="Lines">Everything that must hold.</param>
/// <param name="Problems">What is wrong with the treatment, by field of the definition; told in the lines as well.</param>
public sealed record CrossingPlan(
    IReadOnlyList<PlannedTable> Tables,
    IReadOnlyList<PlannedTable> LeftOut,
    IReadOnlyList<StructureStatement> Statements,
    IReadOnlyList<string> NotMade,
    long Rows,
    TimeSpan Estimate,
    double RowsPerSecond,
    bool Measured,
    IReadOnlyList<ReadinessLine> Lines,
    IReadOnlyList<TreatmentProblem> Problems
)
{
    /// <summary>A plan that comes to nothing, for the systems cannot be looked into or do not go together.</summary>
    internal static CrossingPlan Refused((double PerSecond, bool Measured) rate, IReadOnlyList<ReadinessLine> lines) =>
        new([], [], [], [], 0, TimeSpan.Zero, rate.PerSecond, rate.Measured, lines, []);

    /// <summary>The size at the source of all tables whose rows are loaded; null where that of one is unknown, or none are.</summary>
    public long? Bytes => Rows > 0 && Tables.All(table => table.Bytes is not null) ? Tables.Sum(table => table.Bytes) : null;

    /// <summary>What a start would destroy on the target, each counted.</summary>
    public IReadOnlyList<string> Losses => [.. Lines.Select(line => line.Loses).OfType<string>()];

    /// <summary>What reading it leaves on the source, as sentences; empty where that is nothing.</summary>
    public string Footprint { get; init; } = "";

    public bool Ready => Lines.All(line => line.Ok);
}
