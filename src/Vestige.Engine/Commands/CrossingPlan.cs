using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Commands;

/// <summary>What a start would do, and whether it can.</summary>
public sealed record CrossingPlan
{
    /// <summary>The tables that would cross.</summary>
    public IReadOnlyList<PlannedTable> Tables { get; init; } = [];

    /// <summary>Tables that the rules take and that cannot cross, with the reason.</summary>
    public IReadOnlyList<PlannedTable> LeftOut { get; init; } = [];

    /// <summary>What would be run on the target first.</summary>
    public IReadOnlyList<StructureStatement> Statements { get; init; } = [];

    /// <summary>What of the source's structure is not made on the target, each with the reason.</summary>
    public IReadOnlyList<string> NotMade { get; init; } = [];

    /// <summary>Rows to load, as estimated.</summary>
    public long Rows { get; init; }

    /// <summary>Of how many tables the source has no estimate of rows; their part of <see cref="Rows"/> is a guess by their size.</summary>
    public int Unknown => Tables.Count(table => table.Rows is null);

    /// <summary>How long the load would take.</summary>
    public TimeSpan Estimate { get; init; }

    /// <summary>The rate the estimate rests on.</summary>
    public required double RowsPerSecond { get; init; }

    /// <summary>Whether that rate was measured by a load to this target.</summary>
    public required bool Measured { get; init; }

    /// <summary>Everything that must hold.</summary>
    public required IReadOnlyList<ReadinessCheck> Checks { get; init; }

    /// <summary>What is wrong with the treatment, by field of the definition; told in the checks as well.</summary>
    public IReadOnlyList<TreatmentProblem> Problems { get; init; } = [];

    /// <summary>How often a change reaches the target; null where the target was not looked at.</summary>
    public Delivery? Delivery { get; init; }

    /// <summary>A plan that comes to nothing, for the systems cannot be looked into or do not go together.</summary>
    internal static CrossingPlan Refused((double PerSecond, bool Measured) rate, IReadOnlyList<ReadinessCheck> checks) =>
        new()
        {
            RowsPerSecond = rate.PerSecond,
            Measured = rate.Measured,
            Checks = checks,
        };

    /// <summary>The size at the source of all tables whose rows are loaded; null where that of one is unknown, or none are.</summary>
    public long? Bytes => Rows > 0 && Tables.All(table => table.Bytes is not null) ? Tables.Sum(table => table.Bytes) : null;

    /// <summary>What a start would destroy on the target, each counted.</summary>
    public IReadOnlyList<string> Losses => [.. Checks.Select(check => check.Loses).OfType<string>()];

    /// <summary>What reading it leaves on the source, as sentences; empty where that is nothing.</summary>
    public string Footprint { get; init; } = "";

    public bool Ready => Checks.All(check => check.Ok);
}
