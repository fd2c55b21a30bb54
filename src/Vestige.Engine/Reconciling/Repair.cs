using Vestige.Core.Positions;

namespace Vestige.Engine.Reconciling;

/// <summary>A repair, kept with all rows before and after.</summary>
/// <param name="Id">Its id, unique.</param>
/// <param name="Crossing">The crossing.</param>
/// <param name="Reconciliation">The comparison that found the differences.</param>
/// <param name="By">Who asked for it.</param>
/// <param name="At">When it was done.</param>
/// <param name="Position">The position at which the target stood: each row is as the source had it there.</param>
/// <param name="Rows">The rows.</param>
/// <param name="Undoes">The repair that it takes back; null when it is none such.</param>
/// <param name="UndoneBy">The repair that took it back; null while none has.</param>
public sealed record Repair(
    string Id,
    string Crossing,
    string Reconciliation,
    string By,
    DateTimeOffset At,
    LogPosition Position,
    IReadOnlyList<RepairedRow> Rows,
    string? Undoes = null,
    string? UndoneBy = null
)
{
    /// <summary>How many rows were changed.</summary>
    public int Changed => Rows.Count(row => row.Note is null);
}
