using System.Text.Json.Serialization;
using Vestige.Core.Schemas;

namespace Vestige.Core.Treatments;

/// <summary>
/// Rows of a table of their own, one for each element of a column that repeats: a list, or a JSON array. Their key is that of the
/// row they belong to, as it is on the target, and the place of the element.
/// </summary>
/// <param name="From">The column of the source.</param>
/// <param name="Into">The target's table, as <c>schema.table</c>.</param>
/// <param name="Ordinal">The column for the place, from 1 on; null for <c>ordinal</c>.</param>
/// <param name="Columns">What of an element becomes which column; null for one column <c>value</c> with the element itself.</param>
public sealed record ChildRows(
    string From,
    string Into,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Ordinal = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] IReadOnlyList<ChildColumn>? Columns = null
)
{
    /// <summary>The name by which steps mean the child rows: that of the table, a dot, and the column.</summary>
    public TableName NameFor(TableName table) => table with { Name = $"{table.Name}.{From}" };

    [JsonIgnore]
    public string OrdinalColumn => Ordinal ?? "ordinal";

    /// <summary>The columns for what is in an element.</summary>
    [JsonIgnore]
    public IReadOnlyList<ChildColumn> Values => Columns ?? [new ChildColumn("value")];
}
