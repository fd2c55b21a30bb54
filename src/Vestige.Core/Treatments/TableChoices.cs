namespace Vestige.Core.Treatments;

/// <summary>What happens to the rows of one table, as far as it can be chosen without writing steps.</summary>
/// <param name="Keep">The condition that rows must meet; null for all rows.</param>
/// <param name="Columns">One choice for each column, in the table's order.</param>
/// <param name="Split">The target tables among which rows are divided; empty for one table.</param>
public sealed record TableChoices(string? Keep, IReadOnlyList<ColumnChoice> Columns, IReadOnlyList<SplitTable> Split);
