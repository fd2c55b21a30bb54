using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Engine.Commands;

/// <summary>What another definition means for a crossing that was started.</summary>
/// <param name="Added">Tables that come to it and are loaded.</param>
/// <param name="Removed">Tables that leave it; their rows on the target stay as they are.</param>
/// <param name="Reloaded">Tables to which something else happens on the way from now on: they are loaded again.</param>
/// <param name="Checks">Everything that must hold.</param>
/// <param name="Problems">What is wrong with the treatment, by field of the definition; told in the checks as well.</param>
public sealed record DefinitionChange(
    IReadOnlyList<TableName> Added,
    IReadOnlyList<TableName> Removed,
    IReadOnlyList<TableName> Reloaded,
    IReadOnlyList<ReadinessCheck> Checks,
    IReadOnlyList<TreatmentProblem> Problems
)
{
    /// <summary>The statements that make the target's tables for those that come.</summary>
    public IReadOnlyList<string> Statements { get; init; } = [];

    /// <summary>Whether changes of the other tables are applied while tables are loaded.</summary>
    public bool OthersGoOn { get; init; }

    /// <summary>Tables to be loaded again whose rows can be read until those that are loaded replace them.</summary>
    public IReadOnlyList<TableName> Replaced { get; init; } = [];

    /// <summary>What it would destroy on the target, each counted.</summary>
    public IReadOnlyList<string> Losses => [.. Checks.Select(check => check.Loses).OfType<string>()];

    public bool Ready => Checks.All(check => check.Ok);

    /// <summary>Whether the crossing rests for a moment and continues; without it nothing is felt.</summary>
    public bool Restarts => Added.Count + Removed.Count + Reloaded.Count > 0;
}
