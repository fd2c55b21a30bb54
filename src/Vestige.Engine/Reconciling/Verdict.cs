using Vestige.Core.Schemas;

namespace Vestige.Engine.Reconciling;

/// <summary>What comparing has said of a table last.</summary>
/// <param name="Table">The source's table, with all that its rows go into.</param>
/// <param name="Proved">
/// When it was last proved equal; null when it never was since it was loaded, or rows of it were found to differ or repaired since.
/// </param>
/// <param name="Differences">How many rows differed when it was last compared and not equal; 0 when it was.</param>
/// <param name="Reconciliation">The comparison that found them; null when none did.</param>
/// <param name="FoundAt">When they were found.</param>
/// <param name="Repaired">Whether rows of it were repaired since it was last compared.</param>
public sealed record Verdict(
    TableName Table,
    Proof? Proved,
    long Differences = 0,
    string? Reconciliation = null,
    DateTimeOffset? FoundAt = null,
    bool Repaired = false
);
