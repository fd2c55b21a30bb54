namespace Vestige.Core.Expressions;

/// <summary>A column that an expression may name.</summary>
/// <param name="Name">Spelt as the database has it.</param>
/// <param name="DeclaredType">In the database's own words, for messages.</param>
/// <param name="Meaning">What its values are to the expression.</param>
public sealed record ExpressionColumn(string Name, string DeclaredType, ColumnMeaning Meaning)
{
    /// <summary>How its value is made from the row; null where the row holds it.</summary>
    internal Evaluator? Value { get; init; }

    /// <summary>Where the row holds it; null for its own among those given.</summary>
    internal int? Ordinal { get; init; }

    /// <summary>The ordinals of the row that it depends on; null for its own.</summary>
    internal IReadOnlyList<int>? Reads { get; init; }
}
