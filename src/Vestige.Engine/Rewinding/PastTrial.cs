namespace Vestige.Engine.Rewinding;

/// <summary>What another definition would have made of what was replicated.</summary>
/// <param name="Since">The first transaction that was tried; null where there is none.</param>
/// <param name="Until">The last.</param>
/// <param name="Changes">How many changes were tried.</param>
/// <param name="IsCut">Whether there were more than are tried at once; the earliest were tried.</param>
/// <param name="Tables">The tables that were changed, those first of which most would have been treated otherwise.</param>
public sealed record PastTrial(
    DateTimeOffset? Since,
    DateTimeOffset? Until,
    long Changes,
    bool IsCut,
    IReadOnlyList<TriedTable> Tables
);
