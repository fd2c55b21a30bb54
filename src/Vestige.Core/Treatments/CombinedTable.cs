using System.Text.Json.Serialization;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>
/// One table of the target that several of the source go into, each row with where it came from; that is part of its key.
/// </summary>
/// <param name="Into">The target's table, as <c>schema.table</c>.</param>
/// <param name="Origin">The column that says where a row came from; null for <c>origin</c>.</param>
/// <param name="By">What it says.</param>
public sealed record CombinedTable(
    string Into,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Origin = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingDefault)] OriginName By = OriginName.Table
)
{
    [JsonIgnore]
    public string OriginColumn => Origin ?? "origin";

    /// <summary>What stands in the column for rows of a table.</summary>
    public string OriginOf(TableName table) =>
        By switch
        {
            OriginName.Schema => table.Schema,
            OriginName.Name => table.Name,
            _ => table.ToString(),
        };
}
