using Vestige.Core.Readiness;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Supervision;

/// <summary>What a start would do, and whether it can.</summary>
/// <param name="Tables">The tables that would cross.</param>
/// <param name="LeftOut">Tables that the rules take and that cannot cross, with the reason.</param>
/// <param name="Statements">What would be run on the target first.</param>
/// <param name="Rows">Rows to load, as estimated.</param>
/// <param name="Estimate">How long the load would take.</param>
/// <param name="RowsPerSecond">The rate the estimate rests on.</param>
/// <param name="Measured">Whether that rate was measured by a load to this target.</param>
/// <param name="Lines">Everything that must hold.</param>
public sealed record CrossingPlan(
    IReadOnlyList<PlannedTable> Tables,
    IReadOnlyList<PlannedTable> LeftOut,
    IReadOnlyList<string> Statements,
    long Rows,
    TimeSpan Estimate,
    double RowsPerSecond,
    bool Measured,
    IReadOnlyList<ReadinessLine> Lines)
{
    public bool Ready => Lines.All(line => line.Ok);
}
