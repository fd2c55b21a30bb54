namespace Vestige.Web.Pages.Crossings;

/// <summary>What the target loses when a person agrees to a change.</summary>
/// <param name="Table">The target's table.</param>
/// <param name="Column">The column that is dropped; null where rows are deleted.</param>
/// <param name="Part">The part whose rows are deleted; null where a column is dropped.</param>
/// <param name="Count">How many values or rows; null where that is not known.</param>
public sealed record LostByAgreeing(string Table, string? Column, string? Part, long? Count);
