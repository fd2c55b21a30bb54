namespace Vestige.Engine.Backfilling;

/// <summary>How far a backfill is.</summary>
/// <param name="Done">Parts that are done.</param>
/// <param name="Of">Parts in all; 0 until that is known.</param>
/// <param name="Rows">Rows that were looked at, of either side.</param>
/// <param name="Written">Of these, rows that differed and were written or deleted.</param>
/// <param name="LeftAlone">Rows that were left as they are since a change of them is in quarantine.</param>
public sealed record BackfillProgress(int Done, int Of, long Rows, long Written, long LeftAlone);
