using System.Text.Json.Serialization;

namespace Vestige.Core.Treatments;

/// <summary>One of the tables among which rows are divided.</summary>
/// <param name="Into">The target's table, as <c>schema.table</c>.</param>
/// <param name="When">
/// Its condition; null for all other rows, and then it stands last. Without such a table other rows are left out.
/// </param>
public sealed record SplitTable(string Into, [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? When = null);
