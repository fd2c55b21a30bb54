using Vestige.Core.Readiness;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Engine.Commands;

/// <summary>What another definition means for a crossing that was started.</summary>
/// <param name="Added">Tables that come to it and are loaded, while the others stand.</param>
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
    public bool Ready => Checks.All(check => check.Ok);

    /// <summary>Whether the crossing rests for a moment and continues; without it nothing is felt.</summary>
    public bool Restarts => Added.Count + Removed.Count + Reloaded.Count > 0;
}
