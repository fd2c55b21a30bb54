using System.Text.Json.Serialization;

namespace Vestige.Core.Schemas;

/// <summary>One column of a table as its database declares it.</summary>
/// <param name="Name">Spelt as the database has it.</param>
/// <param name="Type">The declared type, in the database's own words; may be empty where the engine allows that.</param>
/// <param name="Nullable">False when the database refuses NULL here.</param>
/// <param name="KeyOrdinal">1-based place in the primary key; 0 when the column is not part of it.</param>
/// <param name="Default">The default as an expression in the database's own words; null when there is none.</param>
/// <param name="Generated">True when the database computes the value itself.</param>
/// <param name="Collation">In the database's own words, where it is not the type's own; null otherwise and where it was not read.</param>
/// <param name="Id">
/// The database's own number of the column, which a rename keeps and no later column of the table gets; null where it has none.
/// </param>
public sealed record Column(
    string Name,
    string Type,
    bool Nullable = true,
    int KeyOrdinal = 0,
    string? Default = null,
    bool Generated = false,
    string? Collation = null,
    int? Id = null
)
{
    /// <summary>
    /// What rows have in it that were written before it was added, as the log writes values; null where that is NULL, and where rows that
    /// were written then do not come any more.
    /// </summary>
    [JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)]
    public string? Missing { get; init; }
}
