using Vestige.Core.Schemas;

namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>A constraint as the catalogue has it.</summary>
/// <param name="Kind">pg_constraint.contype: p primary key, u unique, x exclusion, c check, f foreign key.</param>
/// <param name="Statement">As pg_get_constraintdef gives it.</param>
/// <param name="References">The table a foreign key points to.</param>
/// <param name="Columns">The numbers of its columns.</param>
/// <param name="ReferencedColumns">For a foreign key those of the columns it points to.</param>
/// <param name="Referenced">For a foreign key the number of the table it points to.</param>
/// <param name="IsValid">Whether every row of the table keeps it; with NOT VALID only those written since do.</param>
/// <param name="Needs">What it uses.</param>
internal sealed record FoundConstraint(
    string Name,
    char Kind,
    string Statement,
    TableName? References,
    IReadOnlyList<short> Columns,
    IReadOnlyList<short> ReferencedColumns,
    long Referenced,
    bool IsValid,
    IReadOnlyList<FoundNeed> Needs
);
