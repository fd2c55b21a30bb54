namespace Vestige.Connectors.PostgreSql.Catalogue;

/// <summary>A column as the catalogue has it.</summary>
/// <param name="Type">As format_type gives it, with its schema where it is not the system's.</param>
/// <param name="Default">For a generated column its expression.</param>
/// <param name="TypeKind">pg_type.typtype: b base, c composite, d domain, e enum, p pseudo, r range, m multirange.</param>
/// <param name="Collation">Where it differs from the type's own.</param>
/// <param name="Number">pg_attribute.attnum.</param>
/// <param name="ComputedFrom">For a generated column the numbers of the columns it is computed from.</param>
/// <param name="Needs">What its collation is and, for a generated column, what its expression uses.</param>
internal sealed record FoundColumn(
    string Name,
    string Type,
    bool NotNull,
    bool Generated,
    bool Identity,
    string? Default,
    char TypeKind,
    string? Collation,
    short Number,
    IReadOnlyList<short> ComputedFrom,
    IReadOnlyList<FoundNeed> Needs
);
