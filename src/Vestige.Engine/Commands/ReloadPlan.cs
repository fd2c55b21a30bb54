using Vestige.Core.Schemas;

namespace Vestige.Engine.Commands;

/// <summary>What it would mean to load tables of a crossing again.</summary>
/// <param name="OthersGoOn">Changes of the other tables are applied meanwhile.</param>
/// <param name="Replaced">Tables whose rows can be read until those that are loaded replace them, in one step.</param>
/// <param name="Emptied">Tables whose rows are deleted first.</param>
/// <param name="NoUndoBecause">Why the present copies cannot be kept to be restored, as a sentence; null where they can.</param>
public sealed record ReloadPlan(
    bool OthersGoOn,
    IReadOnlyList<TableName> Replaced,
    IReadOnlyList<TableName> Emptied,
    string? NoUndoBecause
)
{
    /// <summary>Whether nobody waits and no rows go before others come.</summary>
    public bool IsInPlace => OthersGoOn && Emptied.Count == 0;
}
