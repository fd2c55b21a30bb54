using Vestige.Core.Schemas;

namespace Vestige.Engine.Commands;

/// <summary>What it would mean that tables leave a crossing.</summary>
/// <param name="Copies">The target's tables that hold nothing but their rows.</param>
/// <param name="Statements">What would be run on the target to drop those; empty where they cannot be dropped.</param>
/// <param name="KeptBecause">Why the copies can only be kept, as a sentence; null where they can be dropped.</param>
/// <param name="NoUndoBecause">Why they cannot be restored for a while after they were dropped, as a sentence; null where they can.</param>
/// <param name="ReadBy">Crossings that replicate a copy from the target's connection.</param>
/// <param name="Quarantined">Changes of these tables that wait in quarantine and are lost.</param>
public sealed record TableRemoval(
    IReadOnlyList<TableName> Copies,
    IReadOnlyList<string> Statements,
    string? KeptBecause,
    string? NoUndoBecause,
    IReadOnlyList<string> ReadBy,
    int Quarantined
);
