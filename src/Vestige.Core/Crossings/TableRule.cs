using System.Text.Json.Serialization;

namespace Vestige.Core.Crossings;

/// <summary>One line of the table rules: exactly one of the two patterns is set. <c>*</c> stands for any characters.</summary>
public sealed record TableRule(
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Take = null,
    [property: JsonIgnore(Condition = JsonIgnoreCondition.WhenWritingNull)] string? Leave = null
)
{
    [JsonIgnore]
    public string Pattern => Take ?? Leave ?? "";

    /// <summary>Matches the whole of <paramref name="name"/> (<c>schema.table</c>), letter case included.</summary>
    public bool Matches(string name) => TablePattern.Matches(Pattern, name);
}
