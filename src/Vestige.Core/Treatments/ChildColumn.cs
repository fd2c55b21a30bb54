using System.Text.Json.Serialization;

namespace Vestige.Core.Treatments;

/// <summary>A column of child rows.</summary>
/// <param name="Column">Its name.</param>
/// <param name="Field">The member of a JSON object whose value it has, NULL where there is none; null for the element itself.</param>
/// <param name="As">
/// Its type, of a JSON value: text, integer, decimal or boolean; null for text. A value of another kind is refused.
/// </param>
public sealed record ChildColumn(
    string Column,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Field = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? As = null
);
