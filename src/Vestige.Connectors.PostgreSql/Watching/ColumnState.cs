namespace Vestige.Connectors.PostgreSql.Watching;

/// <summary>A column as the catalogue had it at one moment.</summary>
/// <param name="Number">pg_attribute.attnum, which a rename keeps and which is never given again.</param>
/// <param name="Name">Its name.</param>
/// <param name="Type">As format_type gives it.</param>
/// <param name="TypeNumber">pg_attribute.atttypid.</param>
/// <param name="Modifier">pg_attribute.atttypmod.</param>
/// <param name="Generated">Whether the server computes it; the log does not carry it then.</param>
/// <param name="Writer">The transaction that wrote its catalogue row.</param>
/// <param name="HasMissing">Whether rows older than the column get its value from the catalogue.</param>
/// <param name="Nullable">Whether it takes NULL; true as well where that was not read.</param>
/// <param name="Default">Its default as an expression; null where there is none, or that was not read.</param>
internal sealed record ColumnState(
    short Number,
    string Name,
    string Type,
    uint TypeNumber,
    int Modifier,
    bool Generated,
    long Writer,
    bool HasMissing,
    bool Nullable = true,
    string? Default = null
)
{
    /// <summary>
    /// That value, as the log would write it; null where there is none, where parts have several, and where it was not read.
    /// </summary>
    public string? Missing { get; init; }
}
