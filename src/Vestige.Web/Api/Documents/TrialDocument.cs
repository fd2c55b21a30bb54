using Vestige.Engine.Rewinding;
using Vestige.Web.Api.Describing;

namespace Vestige.Web.Api.Documents;

/// <summary>What another definition would have made of what was replicated.</summary>
/// <param name="Since">The first transaction that was tried; null where there is none.</param>
/// <param name="Until">The last.</param>
/// <param name="Changes">How many changes were tried.</param>
/// <param name="IsCut">Whether there were more than are tried at once.</param>
/// <param name="Tables">The tables that were changed.</param>
public sealed record TrialDocument(
    [property: Time] string? Since,
    [property: Time] string? Until,
    long Changes,
    bool IsCut,
    IReadOnlyList<TriedTableDocument> Tables
)
{
    /// <summary>As the engine has it.</summary>
    internal static TrialDocument Of(PastTrial trial) =>
        new(
            trial.Since is { } since ? StatusView.Rfc3339(since) : null,
            trial.Until is { } until ? StatusView.Rfc3339(until) : null,
            trial.Changes,
            trial.IsCut,
            [.. trial.Tables.Select(TriedTableDocument.Of)]
        );
}
