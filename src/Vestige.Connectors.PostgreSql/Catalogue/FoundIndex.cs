namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>An index as the catalogue has it.</summary>
/// <param name="Statement">As pg_get_indexdef gives it.</param>
/// <param name="Columns">The numbers of its columns; 0 for an expression.</param>
/// <param name="HasExpressions">Whether it has expressions or a condition, which may read any column.</param>
/// <param name="Needs">What it uses.</param>
internal sealed record FoundIndex(
    string Name,
    string Statement,
    IReadOnlyList<short> Columns,
    bool HasExpressions,
    bool IsUnique,
    IReadOnlyList<FoundNeed> Needs
);
